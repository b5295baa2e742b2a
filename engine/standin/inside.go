package standin

import (
	"archive/tar"
	"cmp"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net/http"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"github.com/moby/moby/api/pkg/stdcopy"
	"github.com/moby/moby/api/types/container"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/gate"
)

// command is one that runs inside a container: a program of the image's catalogue entry, which ends without
// an error once the container is ready; any other program is not there.
type command struct {
	box    *simulatedContainer
	words  []string
	code   int
	exists bool
	says   string
	gate   *gate.Gate // that it talks with; nil: it is another program
	tty    bool       // on a terminal: its output comes as it is, not in frames
}

func (s *Server) createCommand(b *simulatedContainer, r *http.Request) (int, any, error) {
	var ask container.ExecCreateRequest
	if err := json.NewDecoder(r.Body).Decode(&ask); err != nil {
		return 400, nil, err
	}
	if !b.running() {
		return 409, nil, fmt.Errorf("Container %s is not running", b.id)
	}
	c := &command{box: b, words: ask.Cmd, code: 126, tty: ask.Tty}
	b.mu.Lock()
	if b.run != nil && b.run.gate != nil && len(c.words) == 3 && slices.Equal(c.words[:2], lab.GateProgram) {
		c.gate = b.run.gate
		c.exists, c.code = true, 0
	} else if c.exists = len(c.words) > 0 && slices.Contains(b.image.Programs, c.words[0]); c.exists {
		c.code = 1
		if b.run != nil && b.run.ready {
			c.code = 0
		}
	}
	if says, ok := b.image.Says[strings.Join(c.words, " ")]; ok {
		c.exists, c.code, c.says = true, 0, says
	}
	b.mu.Unlock()
	id := newID()
	s.mu.Lock()
	s.commands[id] = c
	s.mu.Unlock()
	return 201, container.ExecCreateResponse{ID: id}, nil
}

// processes tells of the one process that a container has.
func processes(b *simulatedContainer, _ *http.Request) (int, any, error) {
	if !b.running() {
		return 409, nil, fmt.Errorf("container %s is not running", b.id)
	}
	program := b.program()
	if program == "" {
		program = "/" + path.Base(strings.SplitN(b.config.Image, ":", 2)[0])
	}
	user := b.config.User
	if user == "" {
		user = "root"
	}
	return 200, container.TopResponse{
		Titles:    []string{"PID", "USER", "%CPU", "RSS", "COMMAND"},
		Processes: [][]string{{strconv.Itoa(os.Getpid()), user, "0.1", "9216", program}},
	}, nil
}

// startCommand gives the connection over to the command, which says one line.
func (s *Server) startCommand(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	c := s.commands[r.PathValue("id")]
	s.mu.Unlock()
	if c == nil {
		http.Error(w, `{"message":"No such exec instance"}`, http.StatusNotFound)
		return
	}
	io.Copy(io.Discard, r.Body)
	conn, buffer, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return
	}
	defer conn.Close()
	text := strings.Join(c.words, " ") + ": not ready yet"
	if !c.exists {
		text = fmt.Sprintf("OCI runtime exec failed: exec failed: exec: %q: executable file not found",
			strings.Join(c.words[:min(1, len(c.words))], ""))
	} else if c.code == 0 {
		text = cmp.Or(c.says, "ready")
	}
	media := "application/vnd.docker.multiplexed-stream"
	if c.tty {
		media = "application/vnd.docker.raw-stream"
	}
	fmt.Fprint(buffer, "HTTP/1.1 101 UPGRADED\r\nContent-Type: "+media+"\r\nConnection: Upgrade\r\nUpgrade: tcp\r\n\r\n")
	if c.gate != nil && c.words[2] == "talk" {
		buffer.Flush()
		talk(c.gate, buffer, conn)
		return
	}
	if c.tty {
		fmt.Fprint(buffer, text+"\r\n")
	} else {
		writeFrame(buffer, stdcopy.Stdout, text)
	}
	buffer.Flush()
}

func (s *Server) inspectCommand(r *http.Request) (int, any, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	c := s.commands[r.PathValue("id")]
	if c == nil {
		return 404, nil, errors.New("No such exec instance")
	}
	return 200,
		map[string]any{"ID": r.PathValue("id"), "ContainerID": c.box.id, "Running": false, "ExitCode": c.code}, nil
}

// putArchive makes the folders of an archive below what a container mounts: on the machine that is stood in
// for, else on the real one.
func (s *Server) putArchive(b *simulatedContainer, r *http.Request) (int, any, error) {
	target := path.Clean(r.URL.Query().Get("path"))
	if target == "/" {
		return s.putFiles(b, r)
	}
	root := ""
	for _, m := range b.host.Mounts {
		if m.Type == "bind" && m.Target == target {
			root = m.Source
		}
	}
	if root == "" {
		return 404, nil, fmt.Errorf("Could not find the file %s in container %s", target, b.id)
	}
	for archive := tar.NewReader(r.Body); ; {
		h, err := archive.Next()
		if err == io.EOF {
			return 200, nil, nil
		}
		if err != nil {
			return 400, nil, err
		}
		if h.Typeflag != tar.TypeDir {
			return 501, nil, errors.New("the stand-in takes archives of folders only")
		}
		if err := s.makeFolder(path.Join(root, h.Name), h); err != nil {
			return 500, nil, err
		}
	}
}

// putFiles keeps the files of an archive.
func (s *Server) putFiles(b *simulatedContainer, r *http.Request) (int, any, error) {
	files := map[string]file{}
	for archive := tar.NewReader(r.Body); ; {
		h, err := archive.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return 400, nil, err
		}
		text, err := io.ReadAll(archive)
		if err != nil {
			return 400, nil, err
		}
		files[path.Join("/", h.Name)] = file{header: *h, text: string(text)}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if b.files == nil {
		b.files = map[string]file{}
	}
	maps.Copy(b.files, files)
	return 200, nil, nil
}

// signal is a signal for a container that runs: one that tells a program to look at its files again changes nothing here.
func signal(b *simulatedContainer, r *http.Request) (int, any, error) {
	if !b.running() {
		return 409, nil, fmt.Errorf("Container %s is not running", b.id)
	}
	return 204, nil, nil
}

// file is one that was put into a container.
type file struct {
	header tar.Header
	text   string
}

// filesAt gives the files that were put at or below a path; false where there are none.
func (s *Server) filesAt(w http.ResponseWriter, b *simulatedContainer, place string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, ok := b.files[place]; !ok {
		return false
	}
	stat, _ := json.Marshal(container.PathStat{Name: path.Base(place), Mode: 0o600})
	w.Header().Set("X-Docker-Container-Path-Stat", base64.StdEncoding.EncodeToString(stat))
	archive := tar.NewWriter(w)
	defer archive.Close()
	for _, name := range slices.Sorted(maps.Keys(b.files)) {
		if f := b.files[name]; declare.Below(name, place) {
			f.header.Name = path.Base(place) + strings.TrimPrefix(name, place)
			archive.WriteHeader(&f.header)
			archive.Write([]byte(f.text))
		}
	}
	return true
}

// getArchive gives the folder that a volume is inside a container: volumes of the stand-in hold nothing, and
// are root's.
func (s *Server) getArchive(w http.ResponseWriter, r *http.Request) {
	b, place := s.find(r.PathValue("id")), path.Clean(r.URL.Query().Get("path"))
	if b != nil && s.filesAt(w, b, place) {
		return
	}
	if b != nil && b.image.Files[place] != "" {
		text := strings.ReplaceAll(b.image.Files[place], "MADE", b.id[:min(20, len(b.id))])
		stat, _ := json.Marshal(container.PathStat{Name: path.Base(place), Size: int64(len(text)), Mode: 0o600})
		w.Header().Set("X-Docker-Container-Path-Stat", base64.StdEncoding.EncodeToString(stat))
		archive := tar.NewWriter(w)
		defer archive.Close()
		archive.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: path.Base(place), Mode: 0o600, Size: int64(len(text))})
		archive.Write([]byte(text))
		return
	}
	if b == nil ||
		!slices.ContainsFunc(b.inspect().Mounts, func(m container.MountPoint) bool {
			return m.Type == "volume" && m.Destination == place
		}) {
		http.Error(w, `{"message":"Could not find the file in the container"}`, http.StatusNotFound)
		return
	}
	stat, _ := json.Marshal(container.PathStat{Name: path.Base(place), Mode: fs.ModeDir | 0o755})
	w.Header().Set("X-Docker-Container-Path-Stat", base64.StdEncoding.EncodeToString(stat))
	archive := tar.NewWriter(w)
	defer archive.Close()
	archive.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: "./", Mode: 0o755})
}

// statPath tells of a path inside a container. Of an image's files nothing is known but its programs, if it
// names them; all others are taken to be there.
func (s *Server) statPath(w http.ResponseWriter, r *http.Request) {
	b := s.find(r.PathValue("id"))
	place := r.URL.Query().Get("path")
	if b == nil || b.image.Programs != nil && !slices.Contains(b.image.Programs, place) {
		w.WriteHeader(http.StatusNotFound)
		return
	}
	stat, _ := json.Marshal(container.PathStat{Name: path.Base(place), Mode: 0o755})
	w.Header().Set("X-Docker-Container-Path-Stat", base64.StdEncoding.EncodeToString(stat))
}

func (s *Server) makeFolder(name string, h *tar.Header) error {
	m := s.options.Machine
	if m == nil {
		if err := os.Mkdir(name, 0o700); err != nil {
			return err
		}
		return errors.Join(os.Chown(name, h.Uid, h.Gid), syscall.Chmod(name, uint32(h.Mode)&0o7777))
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	made := survey.Path{
		Path: name,
		Real: name,
		Kind: survey.Folder,
		UID:  survey.ID(h.Uid),
		GID:  survey.ID(h.Gid),
		Mode: fmt.Sprintf("%04o", h.Mode),
	}
	i := slices.IndexFunc(m.Paths, func(p survey.Path) bool { return p.Path == name })
	switch {
	case i < 0:
		m.Paths = append(m.Paths, made)
	case m.Paths[i].Kind == survey.Missing:
		m.Paths[i] = made
	}
	return nil
}
