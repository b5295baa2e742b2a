package engine

import (
	"archive/tar"
	"context"
	"errors"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/moby/moby/client"
	"golang.org/x/sync/errgroup"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/core/survey"
)

// Copying files takes its time over what a call may take: as long as a slow disk or line needs for so many bytes a
// second.
const copiesASecond = 1 << 20

func copyTime(files []plan.File) time.Duration {
	n := 0
	for _, f := range files {
		n += f.Content.Len() + 1024
	}
	return time.Duration(n/copiesASecond) * time.Second
}

// PutFiles puts files and folders into a container, whether it runs or not. What is there is overwritten; a folder
// that is there keeps its owner and its mode.
func (e *Engine) PutFiles(ctx context.Context, id string, files []plan.File) error {
	if len(files) == 0 {
		return nil
	}
	there, err := e.foldersInside(ctx, id, files)
	if err != nil {
		return err
	}
	reader, writer := io.Pipe()
	go func() { writer.CloseWithError(writeFiles(writer, files, there)) }()
	defer reader.Close()
	return e.call(ctx, "archive", copyTime(files), func(ctx context.Context) error {
		_, err := e.api.CopyToContainer(ctx, id, client.CopyToContainerOptions{DestinationPath: "/", Content: reader})
		return err
	})
}

func writeFiles(to io.Writer, files []plan.File, there map[string]bool) error {
	w := tar.NewWriter(to)
	for _, f := range files {
		h := &tar.Header{
			Typeflag: tar.TypeReg, Name: strings.TrimPrefix(f.Target, "/"), Mode: int64(f.Mode),
			Uid: int(f.UID), Gid: int(f.GID), Size: int64(f.Content.Len()), ModTime: time.Now(),
		}
		if f.Folder {
			if there[f.Target] {
				continue
			}
			h.Typeflag, h.Size, h.Name = tar.TypeDir, 0, h.Name+"/"
		}
		if err := w.WriteHeader(h); err != nil {
			return err
		}
		if _, err := io.WriteString(w, f.Content.Reveal()); err != nil {
			return err
		}
	}
	return w.Close()
}

// filesAtOnce is how many things inside containers are asked for at the same time.
const filesAtOnce = 8

// foldersInside returns those of the folders that are there. Below one that is not, nothing is asked for.
func (e *Engine) foldersInside(ctx context.Context, id string, files []plan.File) (map[string]bool, error) {
	there := map[string]bool{}
	var level []string
	for _, f := range files {
		if f.Folder {
			level = append(level, f.Target)
		}
	}
	deep := func(p string) int { return strings.Count(p, "/") }
	slices.SortFunc(level, func(a, b string) int { return deep(a) - deep(b) })
	missing := map[string]bool{}
	for len(level) > 0 {
		n := 1
		for n < len(level) && deep(level[n]) == deep(level[0]) {
			n++
		}
		is := make([]bool, n)
		var work errgroup.Group
		work.SetLimit(filesAtOnce)
		for i, folder := range level[:n] {
			if missing[path.Dir(folder)] {
				continue
			}
			work.Go(func() error {
				stat, err := e.statPath(ctx, id, folder)
				is[i] = err == nil && stat != nil && stat.Mode.IsDir()
				return err
			})
		}
		if err := work.Wait(); err != nil {
			return nil, err
		}
		for i, folder := range level[:n] {
			there[folder], missing[folder] = is[i], !is[i]
		}
		level = level[n:]
	}
	return there, nil
}

// ReadFiles reads from a container, whether it runs or not, those of the given files and folders that are there.
// Not every engine tells owners.
func (e *Engine) ReadFiles(ctx context.Context, id string, files []plan.File) ([]plan.File, error) {
	want := make(map[string]plan.File, len(files))
	var tops []string
	for _, f := range files { // a folder comes before what is in it
		want[f.Target] = f
		if !slices.ContainsFunc(tops, func(top string) bool { return declare.Below(f.Target, top) }) {
			tops = append(tops, f.Target)
		}
	}
	found := make([][]plan.File, len(tops))
	var work errgroup.Group
	work.SetLimit(filesAtOnce)
	for i, top := range tops {
		work.Go(func() (err error) {
			found[i], err = e.readTree(ctx, id, top, want)
			return err
		})
	}
	err := work.Wait()
	return slices.Concat(found...), err
}

// readTree reads the wanted ones of the files at or below a path.
func (e *Engine) readTree(ctx context.Context, id, top string, want map[string]plan.File) (found []plan.File, err error) {
	var below []plan.File
	for target, f := range want {
		if declare.Below(target, top) {
			below = append(below, f)
		}
	}
	// A service may have put much more there: then what is missing is asked for by itself.
	most := int64(16 << 20)
	for _, f := range below {
		most += int64(2*f.Content.Len()) + 4096
	}
	cut := false
	err = e.call(ctx, "archive", copyTime(below), func(ctx context.Context) error {
		ctx, stop := context.WithCancel(ctx)
		defer stop()
		answer, err := e.api.CopyFromContainer(ctx, id, client.CopyFromContainerOptions{SourcePath: top})
		if err != nil {
			return err
		}
		defer answer.Content.Close()
		limited := &io.LimitedReader{R: answer.Content, N: most}
		found, err = pickFiles(tar.NewReader(limited), top, want)
		cut = limited.N <= 0
		if cut {
			err = nil
		}
		return err
	})
	switch {
	case errors.Is(err, ErrNotFound):
		return nil, nil
	case err != nil || !cut:
		return found, err
	}
	var work errgroup.Group
	work.SetLimit(filesAtOnce)
	single := make([][]plan.File, len(below))
	for i, f := range below {
		if f.Folder || slices.ContainsFunc(found, func(o plan.File) bool { return o.Target == f.Target }) {
			continue
		}
		work.Go(func() (err error) {
			single[i], err = e.readTree(ctx, id, f.Target, map[string]plan.File{f.Target: f})
			return err
		})
	}
	err = work.Wait()
	for _, f := range below {
		if f.Folder {
			found = append(found, f) // its owner and mode are not looked at there
		}
	}
	return append(found, slices.Concat(single...)...), err
}

// pickFiles returns the wanted ones of an archive of what is at a path. Of one that is much larger than wanted only
// the beginning is read.
func pickFiles(archive *tar.Reader, top string, want map[string]plan.File) (found []plan.File, err error) {
	for {
		h, err := archive.Next()
		if errors.Is(err, io.EOF) {
			return found, nil
		}
		if err != nil {
			return found, err
		}
		name := path.Clean("/" + h.Name)
		if _, rest, ok := strings.Cut(name[1:], "/"); ok && name != "/" {
			name = path.Join(top, rest)
		} else {
			name = top
		}
		w, ok := want[name]
		if !ok || h.Typeflag != tar.TypeReg && h.Typeflag != tar.TypeDir {
			continue
		}
		f := plan.File{
			Target: name, Folder: h.Typeflag == tar.TypeDir, Mode: uint32(h.Mode) & 0o7777,
			UID: survey.ID(h.Uid), GID: survey.ID(h.Gid),
		}
		if !f.Folder {
			text, err := io.ReadAll(io.LimitReader(archive, int64(w.Content.Len())+1))
			if err != nil {
				return found, err
			}
			f.Content = secret.Of(string(text), w.Content.Secret())
		}
		found = append(found, f)
	}
}
