package git

import (
	"context"
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
)

// File is a file of a repository.
type File struct {
	Name string // within the repository
	Text string
}

// Snapshot reads the files of a repository's newest commit that lie in a folder ("":
// anywhere) and end in one of some endings, in order of name; and says which commit
// that is. More files than most, or a larger one than limit bytes, is an error.
func Snapshot(ctx context.Context, remote, folder string, endings []string, most int, limit int64) (revision string, files []File, err error) {
	clone, err := os.MkdirTemp("", "vergekeep-git-")
	if err != nil {
		return "", nil, err
	}
	defer os.RemoveAll(clone)
	if _, err := Run(ctx, clone, nil, "clone", "--quiet", "--depth", "1", "--no-checkout", "--", remote, "r"); err != nil {
		return "", nil, err
	}
	clone = path.Join(clone, "r")
	head, err := Run(ctx, clone, nil, "rev-parse", "HEAD")
	if err != nil {
		return "", nil, err
	}
	revision = strings.TrimSpace(string(head))
	args := []string{"ls-tree", "-r", "-z", "-l", "HEAD"}
	if folder != "" {
		args = append(args, "--", strings.TrimSuffix(folder, "/")+"/")
	}
	list, err := Run(ctx, clone, nil, args...)
	if err != nil {
		return "", nil, err
	}
	var names []string
	var wanted strings.Builder
	for _, entry := range strings.Split(string(list), "\x00") {
		about, name, ok := strings.Cut(entry, "\t")
		fields := strings.Fields(about) // mode, type, object, size
		if !ok || len(fields) != 4 || fields[1] != "blob" || !strings.HasPrefix(fields[0], "100") || !slices.Contains(endings, path.Ext(name)) {
			continue
		}
		if size, err := strconv.ParseInt(fields[3], 10, 64); err != nil || size > limit {
			return "", nil, fmt.Errorf("%s has %s bytes; at most %d can be read", name, fields[3], limit)
		}
		if len(names) == most {
			return "", nil, fmt.Errorf("it has more than %d such files", most)
		}
		names = append(names, name)
		wanted.WriteString(fields[2] + "\n")
	}
	out, err := Run(ctx, clone, strings.NewReader(wanted.String()), "cat-file", "--batch")
	if err != nil {
		return "", nil, err
	}
	rest := string(out)
	for _, name := range names {
		head, body, ok := strings.Cut(rest, "\n")
		fields := strings.Fields(head) // object, type, size
		if !ok || len(fields) != 3 {
			return "", nil, io.ErrUnexpectedEOF
		}
		size, err := strconv.Atoi(fields[2])
		if err != nil || size < 0 || size+1 > len(body) {
			return "", nil, io.ErrUnexpectedEOF
		}
		files = append(files, File{name, body[:size]})
		rest = body[size+1:]
	}
	return revision, files, nil
}
