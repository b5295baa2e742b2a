package host

import (
	"context"
	"encoding/hex"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/hostconn"
)

const (
	namesWithin = 4 * time.Second
	namesAtOnce = 16
	mostNames   = 500
)

// readNames asks the machine's resolver for names, and reads which addresses the machine has.
func readNames(ctx context.Context, way *hostconn.Conn, from hostconn.Files, s *survey.Survey, names []string) {
	if len(names) == 0 || way.Lookup == nil {
		return
	}
	readAddresses(from, s)
	names = names[:min(len(names), mostNames)]
	s.Names = make([]survey.Name, len(names))
	ctx, cancel := context.WithTimeout(ctx, namesWithin)
	defer cancel()
	var asking sync.WaitGroup
	slots := make(chan struct{}, namesAtOnce)
	for i, name := range names {
		asking.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			s.Names[i] = survey.Name{Name: name}
			if _, err := netip.ParseAddr(name); err == nil {
				s.Names[i].Addresses = []string{name}
				return
			}
			found, err := way.Lookup(ctx, name)
			if s.Names[i].Addresses = found; err != nil || len(found) == 0 {
				s.Names[i].Problem = "its resolver has no answer"
			}
		})
	}
	asking.Wait()
}

// readAddresses reads the addresses of a machine: those of its own that /proc/net/fib_trie lists as LOCAL, and those of
// /proc/net/if_inet6.
func readAddresses(from hostconn.Files, s *survey.Survey) {
	add := func(a netip.Addr) {
		if text := a.String(); !a.IsLoopback() && !a.IsLinkLocalUnicast() && !slices.Contains(s.Addresses, text) {
			s.Addresses = append(s.Addresses, text)
		}
	}
	if text, err := from.Read("/proc/net/fib_trie", mostFacts); err == nil {
		last := netip.Addr{}
		for line := range strings.Lines(string(text)) {
			line = strings.TrimSpace(line)
			if at, ok := strings.CutPrefix(line, "|-- "); ok {
				last, _ = netip.ParseAddr(at)
			} else if strings.HasPrefix(line, "/32 host LOCAL") && last.IsValid() {
				add(last)
			}
		}
	}
	if text, err := from.Read("/proc/net/if_inet6", mostFacts); err == nil {
		for line := range strings.Lines(string(text)) {
			if b, err := hex.DecodeString(strings.SplitN(line, " ", 2)[0]); err == nil {
				if a, ok := netip.AddrFromSlice(b); ok {
					add(a)
				}
			}
		}
	}
	slices.Sort(s.Addresses)
}
