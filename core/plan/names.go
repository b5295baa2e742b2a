package plan

import (
	"slices"

	"proudlantern.example/lantern/core/lab"
)

// Suffixes of the names of what a deploy makes for the time being.
const (
	SuffixNext     = ".next"      // of a service: its new container, until it gets the name
	SuffixPrevious = ".previous"  // of a service: what ran before, until everything is proven
	SuffixLock     = ".deploying" // of a stack: somebody changes it
	SuffixProven   = ".proven"    // the lock's name once everything is proven: from here on there is only forward
	SuffixUndo     = ".undoing"   // of a stack: who has this one finishes or undoes what a dead deploy has left
	SuffixFolders  = ".folders"   // of a stack: what makes folders on the host, never started
)

var (
	serviceSuffixes = []string{"", SuffixNext, SuffixPrevious}
	stackSuffixes   = []string{SuffixLock, SuffixProven, SuffixUndo, SuffixFolders}
)

// Owns reports whether a container belongs to a lab: by the labels on it, by a name that is that of the very
// service (or stack) that they name, and by having got them when it was made. A container of an image that
// was made from one of ours bears our labels, too: ofImage are the image's.
func Owns(of, name string, labels, ofImage map[string]string) bool {
	stack, service := labels[LabelStack], labels[LabelService]
	if of == "" || labels[LabelLab] != of || stack == "" {
		return false
	}
	base, suffixes := lab.EngineName(of, stack), stackSuffixes
	if service != "" {
		base, suffixes = lab.ContainerName(of, stack, service), serviceSuffixes
	}
	if !slices.ContainsFunc(suffixes, func(s string) bool { return name == base+s }) {
		return false
	}
	return slices.ContainsFunc([]string{LabelLab, LabelStack, LabelService, LabelMade}, func(l string) bool {
		return labels[l] != ofImage[l]
	})
}
