package cli

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/labdir"
)

// findLab returns the lab's folder: the named one, else the first with a lab.toml from the current folder upwards.
func findLab(named string) (string, error) {
	if named != "" {
		dir, err := filepath.Abs(named)
		if err != nil {
			return "", err
		}
		if _, err := os.Stat(filepath.Join(dir, declare.LabFile)); err != nil {
			return "", usage("%s is no lab: there is no %s in it%s", named, declare.LabFile, misnamed(dir))
		}
		return dir, nil
	}
	dir, err := os.Getwd()
	if err != nil {
		return "", err
	}
	for at := dir; ; at = filepath.Dir(at) {
		if _, err := os.Stat(filepath.Join(at, declare.LabFile)); err == nil {
			return at, nil
		}
		if at == filepath.Dir(at) {
			return "", usage("there is no lab here: no %s in %s or above it%s; --lab DIR names one", declare.LabFile, dir, misnamed(dir))
		}
	}
}

// misnamed says which file of a folder is probably meant to be lab.toml; "" for none.
func misnamed(dir string) string {
	found, _ := os.ReadDir(dir)
	for _, e := range found {
		if name := e.Name(); !e.IsDir() && regexp.MustCompile(`(?i)^labs?\.(toml|tml|ya?ml|json)$`).MatchString(name) {
			return ", and " + name + " is read by nobody"
		}
	}
	return ""
}

// readLab reads the files of a lab. Links may not lead out of it. The texts of instead, by path, take the place of what the files say now.
func readLab(dir string, instead map[string]string) (*declare.Lab, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, usage("the lab %s cannot be read: %s", dir, plain(err))
	}
	entries, err := fs.ReadDir(root.FS(), ".")
	if err != nil {
		return nil, usage("the lab %s cannot be read: %s", dir, plain(err))
	}
	var stacks, strays []string
	for _, e := range entries {
		if e.Name()[0] == '.' || !e.IsDir() {
			continue
		}
		// A folder that may not be looked into may hold a stack: reading it says so.
		if _, err := root.Lstat(e.Name() + "/" + declare.StackFile); err == nil || errors.Is(err, fs.ErrPermission) {
			stacks = append(stacks, e.Name())
		} else {
			strays = append(strays, straysIn(root, e.Name())...)
		}
	}
	for path := range instead {
		if stack, ok := strings.CutSuffix(path, "/"+declare.StackFile); ok && !slices.Contains(stacks, stack) {
			stacks = append(stacks, stack)
		}
	}
	// The folder stays open: names of environment files with references are known only when the lab is resolved.
	decl := declare.Read(stacks, func(path string) (string, error) {
		if text, ok := instead[path]; ok {
			return text, nil
		}
		return labdir.Read(root, path)
	})
	decl.Strays = strays
	return decl, nil
}

// straysIn returns the files of a folder whose names are nearly stack.toml.
func straysIn(root *os.Root, dir string) []string {
	entries, err := fs.ReadDir(root.FS(), dir)
	if err != nil {
		return nil
	}
	var found []string
	for _, e := range entries {
		if !e.IsDir() && declare.IsStray(e.Name()) {
			found = append(found, dir+"/"+e.Name())
		}
	}
	return found
}

// putFile writes a file of the lab anew, in place of what was read of it; "" for one that was not there.
func putFile(dir, path, was, text string, mode fs.FileMode) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	return labdir.Write(root, path, was, text, mode)
}

// plain returns the last part of an error of the file system, without the call and the path.
func plain(err error) string {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err.Error()
	}
	return err.Error()
}
