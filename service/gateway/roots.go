package gateway

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"gneiss/source"
)

// A folder as a source hands all files in it to SQL. So that no path, link or mount
// leads there to the service's own records, a source's folder and files must lie
// below a root that the operator names, and be none of the data folder's.

// mayOpen refuses a folder or file that is not for sources.
func (s *Service) mayOpen(path string) error {
	real, err := filepath.EvalSymlinks(path)
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%w: %s is not there", source.ErrUnavailable, path)
	}
	if err == nil {
		real, err = filepath.Abs(real)
	}
	if err != nil {
		return fmt.Errorf("%w: %v", source.ErrUnavailable, err)
	}
	below := false
	for _, root := range s.roots {
		if top, err := filepath.EvalSymlinks(root); err == nil {
			if top, err = filepath.Abs(top); err == nil {
				below = below || strings.HasPrefix(real, strings.TrimSuffix(top, "/")+"/")
			}
		}
	}
	if !below {
		return fmt.Errorf(
			"%w: %s is not inside a folder for sources (%s). The operator sets these with --source-roots",
			source.ErrUnavailable,
			path,
			strings.Join(s.roots, ", "),
		)
	}
	return s.notOurs(path, real)
}

// notOurs refuses what is the data folder, has it below, or is a file of it by
// another name.
func (s *Service) notOurs(path, real string) error {
	own := fmt.Errorf("%w: %s belongs to the service's own data folder", source.ErrUnavailable, path)
	info, err := os.Stat(real)
	if err != nil {
		return fmt.Errorf("%w: %v", source.ErrUnavailable, err)
	}
	for dir, err := filepath.Abs(s.store.Dir); err == nil; dir = filepath.Dir(dir) {
		if there, err := os.Stat(dir); err == nil && os.SameFile(info, there) {
			return own
		}
		if dir == filepath.Dir(dir) {
			break
		}
	}
	entries, err := os.ReadDir(s.store.Dir)
	if err != nil {
		return fmt.Errorf("%w: %v", source.ErrUnavailable, err)
	}
	for _, e := range entries {
		if there, err := e.Info(); err == nil && !e.IsDir() && os.SameFile(info, there) {
			return own
		}
	}
	return nil
}
