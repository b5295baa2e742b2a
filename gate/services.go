package gate

import (
	"bufio"
	"context"
	"encoding/hex"
	"errors"
	"net"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"proudlantern.example/lantern/core/sites"
)

// services are where requests go, by host and port.
type services struct {
	lookup func(ctx context.Context, name string) ([]string, error)

	mu   sync.Mutex
	told bool // what comes now is said by a deploy, and not remembered
	all  map[string]*service
	busy map[string]*atomic.Int64 // requests under way, by address
}

// service is one of them. What a deploy has proven last counts as long as the engine's name server knows it, too: once a
// machine has started again, an address may be somebody else's.
type service struct {
	host string
	port int
	of   *services

	turn   atomic.Uint32 // whose copy's turn it is
	aside  aside
	told   atomic.Pointer[proven]
	now    atomic.Pointer[answer]
	asking atomic.Bool
	mu     sync.Mutex // one asks, others wait
}

// proven are addresses that a deploy has proven.
type proven struct {
	addresses []string
	at        time.Time // zero: remembered from before
}

// answer is what a name led to.
type answer struct {
	addresses []string
	at        time.Time
}

const (
	provenFor = 10 * time.Second // so long after it has told so, a deploy is trusted alone: name servers may be late
	freshFor  = 2 * time.Second  // so long an answer of the name server counts
	staleFor  = 30 * time.Second // and so long while it is asked again, or does not answer
	// missingFor is how long a name is believed to be there of which the name server says that there is none: while containers
	// come and go, it may know of none of them for a moment
	missingFor = 5 * time.Second
)

func newServices(lookup func(ctx context.Context, name string) ([]string, error)) *services {
	return &services{lookup: lookup, all: map[string]*service{}, busy: map[string]*atomic.Int64{}}
}

// of returns the service of a route, with the addresses that it has now.
func (s *services) of(r sites.Route) *service {
	s.mu.Lock()
	defer s.mu.Unlock()
	key := r.Service + " " + net.JoinHostPort(r.Host, strconv.Itoa(r.Port))
	one := s.all[key]
	if one == nil {
		one = &service{host: r.Host, port: r.Port, of: s}
		one.told.Store(&proven{addresses: r.Addresses})
		if s.told {
			one.told.Store(&proven{addresses: r.Addresses, at: time.Now()})
		}
		s.all[key] = one
	}
	if before := one.told.Load(); !slices.Equal(before.addresses, r.Addresses) {
		one.told.Store(&proven{addresses: slices.Clone(r.Addresses), at: time.Now()})
		one.now.Store(nil)
	}
	return one
}

// prune forgets services that no route leads to.
func (s *services) prune(t *table) {
	used := map[*service]bool{}
	for _, all := range t.domains {
		for _, r := range all {
			used[r.service] = true
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for key, one := range s.all {
		if !used[one] {
			delete(s.all, key)
		}
	}
	for address, n := range s.busy {
		if n.Load() == 0 {
			delete(s.busy, address)
		}
	}
}

// count counts a request to an address until done is called.
func (s *services) count(address string) (done func()) {
	s.mu.Lock()
	n := s.busy[address]
	if n == nil {
		n = &atomic.Int64{}
		s.busy[address] = n
	}
	n.Add(1) // under the lock: nobody forgets it meanwhile
	s.mu.Unlock()
	return func() { n.Add(-1) }
}

// drained waits until no request is under way to some addresses.
func (s *services) drained(ctx context.Context, addresses map[string]bool, most time.Duration) error {
	for end := time.Now().Add(most); ; {
		left := int64(0)
		s.mu.Lock()
		for a := range addresses {
			if n := s.busy[a]; n != nil {
				left += n.Load()
			}
		}
		s.mu.Unlock()
		if left == 0 || time.Now().After(end) {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(5 * time.Millisecond):
		}
	}
}

// errNowhere is that a service has no address: it does not run.
var errNowhere = errors.New("nothing of that name is on the gate's network")

// addresses returns where a service is to be tried. Again: what was said before did not help.
func (s *service) addresses(ctx context.Context, again bool) ([]string, error) {
	if s.host == sites.OwnHost {
		at, err := gateway()
		return []string{net.JoinHostPort(at, strconv.Itoa(s.port))}, err
	}
	if _, err := netip.ParseAddr(s.host); err == nil {
		if told := s.told.Load().addresses; len(told) > 0 {
			return told, nil // its copies, each at a port of its own
		}
		return []string{net.JoinHostPort(s.host, strconv.Itoa(s.port))}, nil
	}
	told := s.told.Load()
	if !again {
		if len(told.addresses) > 0 && time.Since(told.at) < provenFor {
			return told.addresses, nil
		}
		if a := s.now.Load(); a != nil {
			switch age := time.Since(a.at); {
			case age < freshFor:
				return a.addresses, nil
			case age < staleFor:
				if s.asking.CompareAndSwap(false, true) {
					go func() {
						defer s.asking.Store(false)
						s.ask(context.Background())
					}()
				}
				return a.addresses, nil
			}
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if a := s.now.Load(); a != nil && !again && time.Since(a.at) < freshFor {
		return a.addresses, nil
	}
	return s.ask(ctx)
}

// ask asks the engine's name server.
func (s *service) ask(ctx context.Context) ([]string, error) {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	found, err := s.of.lookup(ctx, s.host)
	if err != nil || len(found) == 0 {
		var none *net.DNSError
		most := staleFor
		if err == nil || errors.As(err, &none) && none.IsNotFound {
			most = missingFor
		}
		if before := s.now.Load(); before != nil && time.Since(before.at) < most {
			return before.addresses, nil
		}
		s.now.Store(nil)
		return nil, errNowhere
	}
	told := s.told.Load().addresses
	var all, both []string
	for _, a := range found {
		at := net.JoinHostPort(a, strconv.Itoa(s.port))
		if all = append(all, at); slices.Contains(told, at) {
			both = append(both, at)
		}
	}
	// What a deploy has not told of is being started by one, unless there are no more than it has told of: then a copy has
	// started again at another address.
	if len(both) > 0 && (len(told) == 1 || len(found) > len(told)) {
		all = both
	}
	s.now.Store(&answer{all, time.Now()})
	return all, nil
}

// gateway returns the address of the machine that the container is on: where its default route leads to
// (/proc/net/route in proc(5): hexadecimal, the lowest byte first).
func gateway() (string, error) {
	f, err := os.Open("/proc/net/route")
	if err != nil {
		return "", err
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		fields := strings.Fields(lines.Text())
		if len(fields) > 2 && fields[1] == "00000000" {
			if b, err := hex.DecodeString(fields[2]); err == nil && len(b) == 4 {
				return netip.AddrFrom4([4]byte{b[3], b[2], b[1], b[0]}).String(), nil
			}
		}
	}
	return "", errNowhere
}
