package backup

import (
	"archive/tar"
	"bufio"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"strconv"
	"strings"
	"time"
)

// The streams between this machine and one that is elsewhere are tar files as backups have them, without what stands
// before and behind the roots: one root on the way here, all that are restored on the way there. They end with a manifest.

// packing is the manifest of a stream.
type packing struct {
	Notes []string `json:"notes"`
}

// PackTo writes all that is at a place of this machine as a stream for [Writer.Packed], but for what skip names right
// below it: the beginnings of names.
func PackTo(ctx context.Context, to io.Writer, place string, skip []string) error {
	w := &Writer{tar: tar.NewWriter(to), lines: bufio.NewWriter(io.Discard), buffer: make([]byte, 256<<10), Skip: skip}
	if err := w.Root(ctx, 0, place); err != nil {
		return err
	}
	text, err := json.Marshal(packing{w.Notes})
	if err != nil {
		return err
	}
	if err := w.plain(manifestName, text, 0o600, time.Time{}); err != nil {
		return err
	}
	return w.tar.Close()
}

// Packed adds a root that was packed elsewhere, as number n. What no stream of ours has is refused.
func (w *Writer) Packed(ctx context.Context, n int, from io.Reader) error {
	m := &members{Reader: tar.NewReader(from), roots: 1, last: []string{aboutName}}
	err := m.each(ctx, func(e Member) error {
		e.Path = renumbered(e.Path, n)
		if e.Kind == KindHard {
			e.Target = renumbered(e.Target, n)
		}
		if err := w.tar.WriteHeader(e.header()); err != nil {
			return err
		}
		if e.Kind == KindFile {
			sum := newDigest()
			if _, err := io.CopyBuffer(io.MultiWriter(w.tar, sum, progressing{w}), io.LimitReader(m, e.Size), w.buffer); err != nil {
				return wrong(err)
			}
			e.Digest = hex.EncodeToString(sum.Sum(nil))
		}
		w.add(e)
		return nil
	})
	if err != nil {
		return err
	}
	var said packing
	text, err := io.ReadAll(io.LimitReader(m, mostAbout))
	if err == nil {
		err = json.Unmarshal(text, &said)
	}
	if err != nil {
		return wrong(err)
	}
	for _, note := range said.Notes {
		w.Notes = append(w.Notes, strings.ReplaceAll(note, RootName(0), RootName(n)))
	}
	return nil
}

// each reads the members of a stream up to its manifest.
func (m *members) each(ctx context.Context, do func(Member) error) error {
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		e, err := m.next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil {
			err = do(e)
		}
		if err != nil {
			return err
		}
	}
}

// progressing counts bytes of files.
type progressing struct{ *Writer }

func (p progressing) Write(b []byte) (int, error) {
	if p.Bytes += int64(len(b)); p.Progress != nil {
		p.Progress(p.Bytes)
	}
	return len(b), nil
}

// renumbered is a path of root 0 as one of another root.
func renumbered(path string, n int) string {
	return RootName(n) + strings.TrimPrefix(path, RootName(0))
}

// header is a member as tar files have it.
func (e Member) header() *tar.Header {
	mode, _ := strconv.ParseInt(octal(e.Mode), 8, 64)
	h := &tar.Header{
		Name: e.Path, Mode: mode, Uid: e.UID, Gid: e.GID, ModTime: e.modified, Linkname: e.Target, Format: tar.FormatPAX,
		PAXRecords: map[string]string{},
	}
	switch e.Kind {
	case KindFolder:
		h.Typeflag, h.Name = tar.TypeDir, e.Path+"/"
	case KindLink:
		h.Typeflag = tar.TypeSymlink
	case KindHard:
		h.Typeflag = tar.TypeLink
	default:
		h.Typeflag, h.Size = tar.TypeReg, e.Size
	}
	for name, value := range e.xattrs {
		h.PAXRecords[xattrRecord+name] = value
	}
	return h
}

// Pour writes those roots that are wanted as a stream for [UnpackFrom]. An error tells that the stream must not be
// believed: its end may have come.
func (r *Reader) Pour(ctx context.Context, to io.Writer, wanted func(n int) bool) error {
	w := tar.NewWriter(to)
	return r.visit(ctx, func(e Member, content io.Reader) error {
		parts := strings.Split(e.Path, "/")
		if parts[0] != dataFolder || len(parts) < 2 {
			return nil
		}
		if n, err := strconv.Atoi(parts[1]); err != nil || !wanted(n) {
			return nil //nolint:nilerr // it was checked
		}
		if err := w.WriteHeader(e.header()); err != nil {
			return err
		}
		if e.Kind != KindFile {
			return nil
		}
		_, err := io.Copy(w, io.LimitReader(content, e.Size))
		return err
	}, func(io.Reader) error {
		if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: manifestName, Mode: 0o600, Format: tar.FormatPAX}); err != nil {
			return err
		}
		return w.Close()
	})
}

// UnpackFrom makes roots anew from a stream, as [Reader.Unpack] does from a backup of so many roots. It reads the stream
// to its end: one that breaks off has failed.
func UnpackFrom(ctx context.Context, from io.Reader, roots int, u *Unpacking) error {
	x := &unpacking{Unpacking: u, buffer: make([]byte, 256<<10)}
	defer x.leave(0)
	m := &members{Reader: tar.NewReader(from), roots: roots, last: []string{aboutName}}
	if err := m.each(ctx, func(e Member) error { return x.entry(e, m) }); err != nil {
		return wrong(err)
	}
	if err := x.leave(0); err != nil {
		return err
	}
	_, err := io.Copy(io.Discard, from)
	return err
}
