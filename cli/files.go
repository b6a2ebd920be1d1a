package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

// files adds the model as files, for version control.
func (a *app) files(root *cobra.Command) {
	parent := &cobra.Command{Use: "files", Short: "Roles, grants, policies and checks as files, for version control", GroupID: "change",
		Long: `What administrators decided as YAML files: roles/NAME.yaml, schemas/SOURCE.SCHEMA.yaml,
platform.yaml (bundles, lanes, labels and their policies, guardrails), subjects.yaml and
tests.yaml. The same state gives the same bytes. Passwords, tokens and what is in a source are
not in them.`,
		Example: "  gneiss files write access/\n  gneiss files compare access/\n  gneiss files load access/ --draft from-review"}
	write := &cobra.Command{Use: "write DIR", Short: "Write the files into a folder", Args: words(1, 1),
		Long: `Write the files into a folder. Files of things that are gone are removed; comments stay
with what they are at.`,
		RunE: func(c *cobra.Command, args []string) error {
			got, err := client.Get[wire.Files](c.Context(), a.connect(), "/files", nil)
			if err != nil {
				return err
			}
			changed, err := writeFiles(args[0], got.Files)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Wrote %d files of revision %d into %s, %d of them changed.\n", len(got.Files), got.Revision, args[0], changed)
			return nil
		}}
	var only []string
	var whole bool
	compare := &cobra.Command{Use: "compare DIR", Short: "Where the files differ from what is there", Args: words(1, 1),
		Long: "Where the files differ from what is there: what loading them would do. The exit code is 4\nwhere they differ.",
		RunE: func(c *cobra.Command, args []string) error {
			in, err := readFiles(args[0], only)
			if err != nil {
				return err
			}
			in.Whole = whole
			out, err := client.Send[wire.FilesCompared](c.Context(), a.connect(), "POST", "/files/comparison", in)
			if err != nil {
				return err
			}
			g := grid{head: []string{"", "what"}}
			for _, d := range out.Differs {
				g.rows = append(g.rows, []string{d.How, d.Name})
			}
			if len(out.Differs) == 0 && a.output == "table" {
				fmt.Fprintf(a.out, "Revision %d is as the %d files say.\n", out.Revision, len(in.Files))
				return nil
			}
			if err := a.show(out, g); err != nil || len(out.Differs) == 0 {
				return err
			}
			return &exit{ExitCheck}
		}}
	var atOnce bool
	var reason string
	load := &cobra.Command{Use: "load DIR", Short: "Load the files: into a draft, or at once", Args: words(1, 1),
		Long: `Load the files into a draft, which is opened where none is named, or with --at-once into
force. What would be in a file that is not there stays as it is; with --only, other files are
left aside.`,
		Example: "  gneiss files load access/ --draft from-review\n  gneiss files load access/ --at-once --only roles/partner.yaml",
		RunE: func(c *cobra.Command, args []string) error {
			in, err := readFiles(args[0], only)
			if err != nil {
				return err
			}
			in.Reason, in.Whole = reason, whole
			if atOnce {
				return a.twice(c, func() (wire.Changed, error) {
					return client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/files", in)
				})
			}
			if a.moment.Draft == "" && !a.dry {
				name := "files-" + time.Now().UTC().Format("20060102-150405")
				if _, err := client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/drafts", wire.DraftRequest{Name: name, Reason: reason}); err != nil {
					return err
				}
				a.moment.Draft = name
			}
			return a.doneOr(client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/files", in))
		}}
	for _, c := range []*cobra.Command{compare, load} {
		c.Flags().BoolVar(&whole, "whole", false, "what is in none of the files is to go, too")
		c.Flags().StringSliceVar(&only, "only", nil, "only these files, or folders of them")
	}
	load.Flags().BoolVar(&atOnce, "at-once", false, "make it so now, as one revision")
	load.Flags().StringVar(&reason, "reason", "", "why; kept in the journal")
	schema := &cobra.Command{Use: "schema DIR", Short: "Write the JSON Schemas of the files into a folder", Args: words(1, 1),
		Long: `Write the JSON Schemas of the files into a folder: role.schema.json for roles/, schema.schema.json
for schemas/, and one each for platform.yaml, subjects.yaml and tests.yaml. Editors complete and
check the files by them.`,
		RunE: func(c *cobra.Command, args []string) error {
			got, err := client.Get[wire.Files](c.Context(), a.connect(), "/files/schemas", nil)
			if err != nil {
				return err
			}
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return err
			}
			for _, f := range got.Files {
				if err := os.WriteFile(filepath.Join(args[0], f.Path), []byte(f.Text), 0o644); err != nil {
					return err
				}
			}
			fmt.Fprintf(a.out, "Wrote %d schemas into %s.\n", len(got.Files), args[0])
			return nil
		}}
	parent.AddCommand(write, compare, load, schema)
	root.AddCommand(parent)
}

// mostFiles bounds what is read from a folder, in bytes.
const mostFiles = 240 << 20

// readFiles reads the files of a folder that Gneiss may have written.
func readFiles(dir string, only []string) (wire.FilesRequest, error) {
	var in wire.FilesRequest
	size := 0
	if at, err := os.Stat(dir); err != nil || !at.IsDir() {
		return in, usageError{errors.New("there is no folder " + dir)}
	}
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || filepath.Ext(path) != ".yaml" {
			return err
		}
		below, err := filepath.Rel(dir, path)
		if err != nil {
			return err
		}
		below = filepath.ToSlash(below)
		if len(only) > 0 && !slices.ContainsFunc(only, func(o string) bool {
			o = strings.TrimSuffix(filepath.ToSlash(o), "/")
			return below == o || strings.HasPrefix(below, o+"/")
		}) {
			return nil
		}
		text, err := os.ReadFile(path)
		if size += len(text); size > mostFiles {
			return fmt.Errorf("the files of %s are larger than %d MiB", dir, mostFiles>>20)
		}
		in.Files = append(in.Files, wire.File{Path: below, Text: string(text)})
		return err
	})
	if err == nil && len(in.Files) == 0 {
		err = usageError{errors.New("there is no such file in " + dir + "; write them first: gneiss files write " + dir)}
	}
	return in, err
}

// writeFiles writes files below a folder, and removes those of before that are none of them.
func writeFiles(dir string, files []wire.File) (changed int, err error) {
	keep := map[string]bool{}
	for _, f := range files {
		path := filepath.Join(dir, filepath.FromSlash(f.Path))
		keep[path] = true
		old, err := os.ReadFile(path)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return changed, err
		}
		text := withComments(string(old), f.Text)
		if text == string(old) {
			continue
		}
		changed++
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return changed, err
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			return changed, err
		}
	}
	for _, folder := range []string{"roles", "schemas"} {
		old, err := filepath.Glob(filepath.Join(dir, folder, "*.yaml"))
		if err != nil {
			return changed, err
		}
		for _, path := range old {
			if !keep[path] {
				changed++
				if err := os.Remove(path); err != nil {
					return changed, err
				}
			}
		}
	}
	return changed, nil
}
