package diff

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"vergekeep/core/config"
)

func BenchmarkCompare(b *testing.B) {
	random := rand.New(rand.NewPCG(7, 11))
	var lines []string
	for i := 0; len(lines) < 20_000; i++ {
		lines = append(lines, fmt.Sprintf("interface port%d/%d\n", i/48, i%48), fmt.Sprintf("  description to desk %d\n", random.IntN(5000)),
			fmt.Sprintf("  lan access %d\n", []int{10, 20, 30}[random.IntN(3)]), "  spanning edge\n", "  storm-limit broadcast 1.00\n")
	}
	before := strings.Join(lines, "")
	for range 400 {
		i := random.IntN(len(lines))
		switch random.IntN(3) {
		case 0:
			lines[i] = fmt.Sprintf("  description changed %d\n", random.IntN(1000))
		case 1:
			lines[i] += fmt.Sprintf("  mirror to port%d\n", random.IntN(1000))
		default:
			lines[i] = ""
		}
	}
	after := strings.Join(lines, "")
	b.Run("parse", func(b *testing.B) {
		for b.Loop() {
			config.Parse(before, config.Syntax{})
		}
	})
	b.Run("edits", func(b *testing.B) {
		for b.Loop() {
			Edits(SplitLines(before), SplitLines(after))
		}
	})
	b.Run("all", func(b *testing.B) {
		for b.Loop() {
			left, right := config.Paths(before, config.Syntax{}), config.Paths(after, config.Syntax{})
			Compare(Side{Text: before, PathAt: left}, Side{Text: after, PathAt: right}).Unified("a", "b", 3)
		}
	})
}
