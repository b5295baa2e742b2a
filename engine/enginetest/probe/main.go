//go:build linux

// Probe is the program inside the images of the tests: it serves what it knows of itself and behaves as its
// environment says.
package main

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// About is what the page says.
type About struct {
	UID      int               `json:"uid"`
	GID      int               `json:"gid"`
	Groups   []int             `json:"groups"`
	Hostname string            `json:"hostname"`
	Env      []string          `json:"env"`
	Wrote    string            `json:"wrote,omitempty"` // why PROBE_WRITE could not be written; "yes" when it could
	Args     []string          `json:"args"`
	Folder   string            `json:"folder"` // that it was started in
	NoFile   [2]uint64         `json:"nofile"`
	Shared   uint64            `json:"shared"`          // bytes of /dev/shm
	Names    map[string]string `json:"names,omitempty"` // addresses of what PROBE_NAMES lists
	// Files are the contents of what PROBE_FILES lists; of links where they lead, of folders what they hold.
	Files map[string]string `json:"files,omitempty"`
}

func main() {
	if len(os.Args) == 3 && os.Args[1] == "ask" {
		ask(os.Args[2])
	}
	if len(os.Args) == 3 && os.Args[1] == "rights" {
		rights(os.Args[2])
	}
	if len(os.Args) == 3 && os.Args[1] == "exit" {
		fmt.Println("the lens is cracked")
		code, _ := strconv.Atoi(os.Args[2])
		os.Exit(code)
	}
	end := make(chan os.Signal, 1)
	signal.Notify(end, syscall.SIGTERM)
	go func() {
		<-end
		os.Exit(143)
	}()
	var ready atomic.Bool
	fmt.Println("the probe starts")
	if what := os.Getenv("PROBE_SAYS"); what != "" {
		go say(what)
	}
	if port := os.Getenv("PROBE_PAGE"); port != "" {
		go http.ListenAndServe(":"+port, page(&ready))
	}
	if port := os.Getenv("PROBE_TCP"); port != "" {
		go accept(port)
	}
	if code := os.Getenv("PROBE_EXITS"); code != "" {
		time.Sleep(duration("PROBE_EXITS_AFTER"))
		n, _ := strconv.Atoi(code)
		if n == 0 {
			fmt.Println("the lens is clean")
		} else {
			fmt.Println("the lens is cracked")
		}
		os.Exit(n)
	}
	if os.Getenv("PROBE_NEVER_READY") == "" {
		time.Sleep(duration("PROBE_READY_AFTER"))
		ready.Store(true)
		fmt.Println("open for readings")
	} else {
		fmt.Println("waiting for a tide that does not come")
	}
	// Told to look at its files again, it is ready as long as none of them says that it is broken.
	again := make(chan os.Signal, 1)
	signal.Notify(again, syscall.SIGHUP)
	for range again {
		ready.Store(!strings.Contains(fmt.Sprint(files(strings.Fields(os.Getenv("PROBE_FILES")))), "broken"))
		fmt.Println("looked at its files again")
	}
}

// say writes lines that logs have to carry: "odd" ones, or "N lines at R", numbered, R of them a second.
func say(what string) {
	var n, rate int
	if _, err := fmt.Sscanf(what, "%d lines at %d", &n, &rate); err == nil {
		pause := time.NewTicker(10 * time.Millisecond)
		begun, said := time.Now(), 0
		for range pause.C {
			for due := min(n, int(time.Since(begun).Seconds()*float64(rate))); said < due; said++ {
				fmt.Printf("line %d of %s\n", said, os.Getenv("LEVEL"))
			}
			if said == n {
				return
			}
		}
	}
	fmt.Println("long " + strings.Repeat("x", 1_000_000) + " end")
	fmt.Println("\x1b[31mred\x1b[0m \x1b]0;title\a and\tmore")
	fmt.Println("bytes \xff\xfe that are no text")
	fmt.Println()
	fmt.Fprintln(os.Stderr, "to standard error")
	fmt.Println("the odd ones end")
}

// rights says of the folders 0, 1, … in a folder what the kernel lets this process do there, as a digit of
// mode bits each, and ends.
func rights(dir string) {
	for i := 0; ; i++ {
		folder := dir + "/" + strconv.Itoa(i)
		if _, err := os.Stat(folder); err != nil {
			os.Exit(0)
		}
		answer := 0
		for bit, mode := range map[int]uint32{4: unix.R_OK, 2: unix.W_OK, 1: unix.X_OK} {
			if unix.Faccessat(unix.AT_FDCWD, folder, mode, unix.AT_EACCESS) == nil {
				answer |= bit
			}
		}
		fmt.Print(answer)
	}
}

// ask ends with 0 when the page on a port of this container answers, else with 1.
func ask(port string) {
	answer, err := http.Get("http://127.0.0.1:" + port + "/")
	if err != nil || answer.StatusCode != http.StatusOK {
		fmt.Println("not ready yet")
		os.Exit(1)
	}
	fmt.Println("ready")
	os.Exit(0)
}

func page(ready *atomic.Bool) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if !ready.Load() {
			http.Error(w, "not ready yet", http.StatusServiceUnavailable)
			return
		}
		about := About{UID: os.Getuid(), GID: os.Getgid(), Env: os.Environ()}
		about.Groups, _ = os.Getgroups()
		about.Hostname, _ = os.Hostname()
		about.Args = os.Args
		about.Folder, _ = os.Getwd()
		var limit syscall.Rlimit
		if syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit) == nil {
			about.NoFile = [2]uint64{limit.Cur, limit.Max}
		}
		var shm syscall.Statfs_t
		if syscall.Statfs("/dev/shm", &shm) == nil {
			about.Shared = shm.Blocks * uint64(shm.Bsize)
		}
		about.Names = names(strings.Fields(os.Getenv("PROBE_NAMES")))
		about.Files = files(strings.Fields(os.Getenv("PROBE_FILES")))
		for _, path := range strings.Fields(os.Getenv("PROBE_WRITE")) {
			if about.Wrote == "" {
				about.Wrote = "yes"
			}
			if err := os.WriteFile(strings.TrimRight(path, "/")+"/probe", []byte("here"), 0o600); err != nil {
				about.Wrote = err.Error()
			}
		}
		json.NewEncoder(w).Encode(about)
	})
}

func files(paths []string) map[string]string {
	contents := map[string]string{}
	for _, p := range paths {
		if target, err := os.Readlink(p); err == nil {
			contents[p] = target
		} else if entries, err := os.ReadDir(p); err == nil {
			var held []string
			for _, e := range entries {
				held = append(held, e.Name())
			}
			contents[p] = strings.Join(held, " ")
		} else if text, err := os.ReadFile(p); err == nil {
			contents[p] = string(text)
		} else {
			contents[p] = err.Error()
		}
	}
	return contents
}

func names(list []string) map[string]string {
	addresses := map[string]string{}
	for _, n := range list {
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		defer cancel()
		if found, err := net.DefaultResolver.LookupHost(ctx, n); err == nil {
			addresses[n] = strings.Join(found, " ")
		} else {
			addresses[n] = err.Error()
		}
	}
	return addresses
}

func accept(port string) {
	l, err := net.Listen("tcp", ":"+port)
	if err != nil {
		fmt.Println(err)
		return
	}
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		c.Close()
	}
}

func duration(name string) time.Duration {
	d, _ := time.ParseDuration(os.Getenv(name))
	return d
}
