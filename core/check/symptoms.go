package check

import (
	"regexp"
	"slices"
	"sync"
)

// symptom is what programs say when something is wrong that a rule knows of.
type symptom struct {
	said  string // regular expression, letter case aside
	rules []string
}

// symptoms are the words of the C library's and the kernel's errors (errno(3), gai_strerror(3)), and what
// stores say of those they do not know.
var symptoms = []symptom{
	{`permission denied|EACCES|operation not permitted|EPERM`,
		[]string{"mount-denied", "volume-owner", "mount-contents-denied", "port-privileged", "device-missing",
			"account-mixed"}},
	{`read-only file system|EROFS`, []string{"mount-denied"}},
	{`address already in use|EADDRINUSE|port is already allocated`, []string{"port-in-use", "port-clash"}},
	{`no such host|could not resolve|name or service not known|name resolution|ENOTFOUND|EAI_AGAIN|unknown host`, []string{"wire-unknown", "alias-clash", "network-missing"}},
	{`connection refused|ECONNREFUSED`, []string{"wire-port", "wire-localhost", "wire-order"}},
	{`authentication failed|access denied for user|invalid password|not authorized|unauthorized`,
		[]string{"wire-credentials", "env-placeholder", "account-contradiction"}},
	{`exec format error|ENOEXEC`, []string{"image-platform"}},
	{`no space left|ENOSPC|disk full`, []string{"mount-low-space", "mount-unmounted-disk"}},
	{`no such file or directory|ENOENT|bind source path does not exist`,
		[]string{"mount-missing", "mount-case", "mount-unlisted", "mount-kind"}},
	{`is a directory|EISDIR|not a directory|ENOTDIR`, []string{"mount-kind"}},
	{`out of memory|ENOMEM|more memory than it may`, []string{"capacity-memory"}},
	{`unknown time ?zone|invalid time ?zone`, []string{"zone-unknown", "zone-contradiction"}},
}

var symptomPatterns = sync.OnceValue(func() []*regexp.Regexp {
	var all []*regexp.Regexp
	for _, s := range symptoms {
		all = append(all, regexp.MustCompile("(?i)"+s.said))
	}
	return all
})

// Symptoms returns the names of the rules that the words of a program, or of an engine, point to, the
// likeliest first.
func Symptoms(lines []string) []string {
	var rules []string
	for i, p := range symptomPatterns() {
		if !slices.ContainsFunc(lines, p.MatchString) {
			continue
		}
		for _, r := range symptoms[i].rules {
			if !slices.Contains(rules, r) {
				rules = append(rules, r)
			}
		}
	}
	return rules
}
