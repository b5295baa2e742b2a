package gate

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/bcrypt"
)

// signIns are who may see what (RFC 7617). To compare a password takes long on purpose: one that was right is remembered
// for a while, not as itself, and those who are wrong too often have to wait.
type signIns struct {
	now func() time.Time
	key []byte // of what is remembered; never written anywhere

	mu        sync.Mutex
	users     map[string]map[string]string
	nobody    map[string]string // by sign-in: a hash that takes as long as those of its users, and that nobody has
	right     map[[sha256.Size]byte]time.Time
	wrong     map[string]*attempts // by client, and by user
	comparing chan struct{}        // as many at a time
}

// attempts are those of a client, or for a user, that were wrong.
type attempts struct {
	most  float64
	left  float64 // how many more there are
	since time.Time
}

const (
	rememberFor   = 5 * time.Minute
	mostRight     = 4096
	mostWrong     = 16384
	wrongAtOnce   = 10              // wrong passwords of a client until it has to wait
	ofUserAtOnce  = 100             // and for a user, from everywhere: nobody locks another one out by a few
	wrongEvery    = 6 * time.Second // and then one in so long
	comparedAtOne = 2               // at a time: bcrypt keeps a processor busy
	mostPassword  = 72              // bytes; bcrypt knows no more
)

func newSignIns(now func() time.Time) *signIns {
	key := make([]byte, 32)
	rand.Read(key)
	return &signIns{
		now: now, key: key, right: map[[sha256.Size]byte]time.Time{}, wrong: map[string]*attempts{}, comparing: make(chan struct{}, comparedAtOne),
	}
}

func (s *signIns) set(users map[string]map[string]string) {
	nobody := map[string]string{}
	for name, all := range users {
		cost := bcrypt.DefaultCost
		for _, hash := range all {
			if c, err := bcrypt.Cost([]byte(hash)); err == nil {
				cost = c
			}
		}
		if hash := hashOfNobody(cost); hash != "" {
			nobody[name] = hash
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.users, s.nobody = users, nobody
	clear(s.right)
}

var (
	nobodysMu sync.Mutex
	nobodys   = map[int]string{}
)

// hashOfNobody returns the hash of a password that nobody knows, which takes as long to compare as others of its cost.
func hashOfNobody(cost int) string {
	nobodysMu.Lock()
	defer nobodysMu.Unlock()
	if nobodys[cost] == "" {
		// Made at the lowest cost, and said to be of the right one: no password has it, and comparing takes as long.
		hash, err := bcrypt.GenerateFromPassword([]byte(rand.Text()), bcrypt.MinCost)
		if err != nil {
			return ""
		}
		nobodys[cost] = string(hash[:4]) + pad(cost) + string(hash[6:])
	}
	return nobodys[cost]
}

func pad(cost int) string {
	if cost < 10 {
		return "0" + strconv.Itoa(cost)
	}
	return strconv.Itoa(cost)
}

// allowed reports whether another attempt may be made, and how long to wait otherwise.
func (s *signIns) allowed(keys ...string) (wait time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, key := range keys {
		if a := s.wrong[key]; a != nil {
			a.refill(s.now())
			if a.left < 1 {
				wait = max(wait, time.Duration((1-a.left)*float64(wrongEvery)))
			}
		}
	}
	return wait
}

func (a *attempts) refill(now time.Time) {
	a.left = min(a.most, a.left+float64(now.Sub(a.since))/float64(wrongEvery))
	a.since = now
}

// take counts an attempt before it is looked at: many at once are many.
func (s *signIns) take(keys ...string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.now()
	if len(s.wrong) > mostWrong {
		for key, a := range s.wrong {
			if a.refill(now); a.left >= a.most || len(s.wrong) > 2*mostWrong {
				delete(s.wrong, key)
			}
		}
	}
	for _, key := range keys {
		a := s.wrong[key]
		if a == nil {
			most := float64(wrongAtOnce)
			if strings.HasPrefix(key, "user ") {
				most = ofUserAtOnce
			}
			a = &attempts{most: most, left: most, since: now}
			s.wrong[key] = a
		}
		a.refill(now)
		a.left--
	}
}

// giveBack says that an attempt was right.
func (s *signIns) giveBack(keys ...string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, key := range keys {
		if a := s.wrong[key]; a != nil {
			a.left = min(a.most, a.left+1)
		}
	}
}

// clientKey is by what attempts of a client are counted: one that has a network counts as one.
func clientKey(a netip.Addr) string {
	if a.Is6() {
		if p, err := a.Prefix(64); err == nil {
			return "client " + p.String()
		}
	}
	return "client " + a.String()
}

// signedIn reports whether the request comes from somebody who may see its site; else it has been answered.
func (a *asked) signedIn(w http.ResponseWriter) bool {
	s, name := a.g.signIns, a.route.SignIn
	user, password, said := a.r.BasicAuth()
	if !said {
		a.askWho(w)
		return false
	}
	s.mu.Lock()
	hash, known := s.users[name][user]
	if !known {
		hash = s.nobody[name]
	}
	s.mu.Unlock()
	mac := hmac.New(sha256.New, s.key)
	for _, part := range []string{name, user, hash, password} {
		mac.Write([]byte(strconv.Itoa(len(part)) + ":" + part))
	}
	remembered := [sha256.Size]byte(mac.Sum(nil))
	s.mu.Lock()
	until, was := s.right[remembered]
	s.mu.Unlock()
	if was && s.now().Before(until) {
		a.user = user
		return true
	}
	keys := []string{clientKey(a.client), "user " + name + " " + user}
	if wait := s.allowed(keys...); wait > 0 {
		w.Header().Set("Retry-After", strconv.Itoa(int(wait/time.Second)+1))
		refuse(w, http.StatusTooManyRequests)
		return false
	}
	s.take(keys...)
	select {
	case s.comparing <- struct{}{}:
	case <-a.r.Context().Done():
		return false
	}
	err := bcrypt.CompareHashAndPassword([]byte(hash), []byte(password[:min(len(password), mostPassword)]))
	<-s.comparing
	if err != nil || !known || len(password) > mostPassword {
		a.askWho(w)
		return false
	}
	s.giveBack(keys...)
	s.mu.Lock()
	if len(s.right) >= mostRight {
		clear(s.right)
	}
	s.right[remembered] = s.now().Add(rememberFor)
	s.mu.Unlock()
	a.user = user
	return true
}

func (a *asked) askWho(w http.ResponseWriter) {
	w.Header().Set("WWW-Authenticate", `Basic realm="`+a.route.SignIn+`", charset="UTF-8"`)
	refuse(w, http.StatusUnauthorized)
}
