// Command tally reads the events of go test -json: it prints the output of what
// failed, then one line of counts, which it also keeps in bin/test-NAME.count.
package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"os"
	"strings"
)

type event struct {
	Action, Package, Test, Output string
}

func main() {
	name, seconds := os.Args[1], os.Args[2]
	passed, failed, skipped := 0, 0, 0
	output := map[string][]string{}
	lines := bufio.NewScanner(os.Stdin)
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		var e event
		if json.Unmarshal(lines.Bytes(), &e) != nil {
			fmt.Println(lines.Text())
			continue
		}
		key := e.Package + " " + e.Test
		switch e.Action {
		case "output", "build-output":
			output[key] = append(output[key], e.Output)
		case "pass", "skip", "fail":
			if e.Test == "" && e.Action != "fail" {
				continue
			}
			switch e.Action {
			case "pass":
				passed++
			case "skip":
				skipped++
				fmt.Printf("skipped: %s\n", key)
			case "fail":
				failed++
				for of, list := range output {
					// With a package that failed, what was said by tests that never ended.
					if of == key || e.Test == "" && strings.HasPrefix(of, e.Package+" ") {
						for _, o := range list {
							fmt.Print(o)
						}
						delete(output, of)
					}
				}
			}
			delete(output, key)
		case "build-fail":
			failed++
			for _, list := range output {
				for _, o := range list {
					fmt.Print(o)
				}
			}
		}
	}
	fmt.Printf("%-8s %d passed, %d failed, %d skipped in %s s\n", name, passed, failed, skipped, seconds)
	text := fmt.Sprintf("%d %d %d\n", passed, failed, skipped)
	if err := os.WriteFile("bin/test-"+name+".count", []byte(text), 0o644); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	if failed > 0 {
		os.Exit(1)
	}
}
