package cli

import (
	"context"
	_ "embed"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/tags"
	"proudlantern.example/lantern/labdir"
)

// The scripts ask the program itself, word by word, so that they know the lab.
var (
	//go:embed completion/lantern.bash
	bashScript string
	//go:embed completion/lantern.zsh
	zshScript string
	//go:embed completion/lantern.fish
	fishScript string
)

func (s *session) completionCommand() *cli.Command {
	return &cli.Command{
		Name: "completion", Usage: "print the script that completes words in a shell", ArgsUsage: "bash|zsh|fish",
		Description: "bash: source <(lantern completion bash) in ~/.bashrc. zsh: source " +
			"<(lantern completion zsh) in " +
			"~/.zshrc, after compinit. fish: lantern completion fish > ~/.config/fish/completions/lantern.fish.",
		Action: func(_ context.Context, c *cli.Command) error {
			script := map[string]string{"bash": bashScript, "zsh": zshScript, "fish": fishScript}[c.Args().First()]
			if script == "" {
				return usage("lantern completion takes bash, zsh or fish")
			}
			_, err := io.WriteString(s.Out, script)
			return err
		},
	}
}

// completeCommand answers the scripts: the words of a command line so far, the last of which is to be completed.
func (s *session) completeCommand() *cli.Command {
	return &cli.Command{
		Name: "complete-words", Hidden: true, SkipFlagParsing: true, ArgsUsage: "WORD...",
		Action: func(_ context.Context, c *cli.Command) error {
			for _, word := range s.complete(c.Root(), c.Args().Slice()) {
				fmt.Fprintln(s.Out, word)
			}
			return nil
		},
	}
}

// complete returns what the last word may become, sorted.
func (s *session) complete(root *cli.Command, words []string) []string {
	if len(words) == 0 {
		words = []string{""}
	}
	before, current := words[:len(words)-1], words[len(words)-1]
	command := root
	var arguments []string
	for i := 0; i < len(before); i++ {
		word := before[i]
		switch {
		case word == "--":
			return nil // what follows is not ours
		case strings.HasPrefix(word, "-"):
			name, value, given := strings.Cut(word, "=")
			f := flagOf(root, command, name)
			if f == nil || !takesValue(f) {
				continue
			}
			if !given && i+1 < len(before) {
				i++
				value = before[i]
			} else if !given {
				return matching(s.values(root, command, f), current)
			}
			switch f.Names()[0] {
			case "lab":
				s.lab = value
			case "host":
				s.host = value
			}
		case command == root:
			if command = root.Command(word); command == nil {
				return nil
			}
		default:
			arguments = append(arguments, word)
		}
	}
	var all []string
	switch {
	case strings.HasPrefix(current, "-"):
		for _, f := range slices.Concat(command.Flags, root.Flags) {
			all = append(all, "--"+f.Names()[0])
		}
		all = append(all, "--help")
	case command == root:
		for _, c := range root.Commands {
			if !c.Hidden {
				all = append(all, c.Name)
			}
		}
	default:
		all = s.arguments(root, command, arguments, current)
	}
	return matching(all, current)
}

// matching returns those that begin as the word does, each once, sorted.
func matching(all []string, word string) []string {
	all = slices.DeleteFunc(slices.Clone(all), func(s string) bool { return !strings.HasPrefix(s, word) })
	slices.Sort(all)
	return slices.Compact(all)
}

// flagOf returns the option of a command that a word names; nil for none.
func flagOf(root, command *cli.Command, word string) cli.Flag {
	for _, f := range slices.Concat(command.Flags, root.Flags) {
		if slices.Contains(f.Names(), strings.TrimLeft(word, "-")) {
			return f
		}
	}
	return nil
}

func takesValue(f cli.Flag) bool {
	d, ok := f.(cli.DocGenerationFlag)
	return ok && d.TakesValue()
}

// values returns what an option may be set to; none where any file may follow.
func (s *session) values(root, command *cli.Command, f cli.Flag) []string {
	switch f.Names()[0] {
	case "host":
		return s.hostNames()
	case "format":
		if command.Name == "check" {
			return []string{"text", "json", "sarif"}
		}
		if command.Name == "about" {
			return []string{"text", "json", "markdown"}
		}
		return []string{"text", "json"}
	case "despite":
		return ruleNames()
	case "write":
		return []string{tags.Patch, tags.Minor, tags.Major}
	case "times":
		return []string{"short", "full"}
	}
	return nil
}

// arguments returns what an argument of a command may be.
func (s *session) arguments(root, command *cli.Command, before []string, current string) []string {
	takes := strings.Fields(command.ArgsUsage)
	switch {
	case len(takes) == 0 || len(before) >= len(takes) && !strings.HasSuffix(command.ArgsUsage, "..."):
		return nil
	case command.Name == "help":
		var all []string
		for _, c := range root.Commands {
			all = append(all, c.Name)
		}
		return all
	case command.Name == "about":
		return append(slices.Concat(ruleNames(), keyNames()), "keys", "rules", "cards")
	case strings.Contains(takes[0], "|"):
		return strings.Split(strings.Trim(takes[0], "[]"), "|")
	case strings.Contains(takes[0], "HOST"):
		return s.hostNames()
	case strings.Contains(takes[0], "STACK") && len(before) == 1 && strings.Contains(command.ArgsUsage, "ENTRY"):
		return s.entryNumbers(before[0])
	case strings.Contains(takes[0], "SERVICE"):
		return s.stackNames(strings.Contains(current, "/") || !strings.Contains(takes[0], "["))
	case strings.Contains(takes[0], "STACK"):
		return s.stackNames(false)
	}
	return nil
}

// quietly opens the lab; nil where there is none, or it cannot be read.
func (s *session) quietly() *app.Workspace {
	dir, err := labdir.Find(s.lab)
	if err != nil {
		return nil
	}
	w, err := app.Open(dir, app.Caller{NoHelpers: true})
	if err != nil {
		return nil
	}
	return w
}

func (s *session) hostNames() (names []string) {
	if w := s.quietly(); w != nil {
		for _, h := range w.Hosts {
			names = append(names, h.Name)
		}
	}
	return names
}

// stackNames returns the stacks of the lab, or their services.
func (s *session) stackNames(services bool) (names []string) {
	w := s.quietly()
	if w == nil {
		return nil
	}
	for _, st := range w.Stacks {
		if s.host != "" && (st.Host == nil || st.Host.Name != s.host) {
			continue
		}
		if !services {
			names = append(names, st.Name)
			continue
		}
		for _, v := range st.Services {
			names = append(names, v.FullName())
		}
	}
	return names
}

func (s *session) entryNumbers(stack string) (numbers []string) {
	if w := s.quietly(); w != nil {
		list, _ := w.Entries(stack)
		for _, e := range list {
			numbers = append(numbers, strconv.Itoa(e.Number))
		}
	}
	return numbers
}

func ruleNames() (names []string) {
	for _, r := range check.All() {
		names = append(names, r.Name)
	}
	return names
}

func keyNames() (names []string) {
	var collect func([]declare.KeyDoc)
	collect = func(keys []declare.KeyDoc) {
		for _, k := range keys {
			names = append(names, k.Name)
			collect(k.Keys)
		}
	}
	collect(slices.Concat(declare.LabDocs(), declare.StackDocs(), declare.CardDocs()))
	return names
}
