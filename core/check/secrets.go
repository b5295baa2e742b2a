package check

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/core/source"
)

var secretRules = []Rule{
	{
		Name: "lab-writable", Severity: Warning, Needs: Machine,
		Title: "root deploys a lab that others may write",
		Text: "People who may write these files can make root start anything, with any folder of the " +
			"machine in it. Let only root, or only the person who runs lantern, write them.",
		Mistake: `lab = "skerry-light"    # in a folder of mode 0777`,
		Mended:  `# after: chmod go-w lab.toml and the folders`,
		Find: func(in *Input) {
			by := map[string][]string{}
			for _, path := range sortedKeys(in.Lab.Files) {
				if w := in.Lab.Files[path].Writers; w != "" {
					by[w] = append(by[w], path)
				}
			}
			for _, w := range sortedKeys(by) {
				paths := by[w]
				shown := strings.ReplaceAll(strings.Join(paths[:min(len(paths), 3)], ", "), "., ",
					"the lab's folder, ")
				if len(paths) > 3 {
					shown += fmt.Sprintf(" and %d more", len(paths)-3)
				}
				if shown == "." {
					shown = "the lab's folder"
				}
				in.report(nil, source.Problem{
					At:      in.Lab.NameAt,
					Message: fmt.Sprintf("%s may write %s, and root deploys what this lab says", w, shown),
					Mend:    &source.Mend{Text: "chmod go-w '" + strings.Join(paths, "' '") + "'"},
				})
			}
		},
	}, {
		Name: "env-file-exposed", Severity: Warning, Needs: Machine,
		Title:   "an environment file with secrets that everybody on this machine may read",
		Text:    "Such a file belongs in mode 0600.",
		Mistake: `A_PASSWORD='three words of our own'    # in a file of mode 0644`,
		Mended:  `# after: chmod 600 mast.env`,
		Find: func(in *Input) {
			eachSecretFile(in, func(path string, f *declare.EnvFile, fact lab.FileFact) {
				if fact.Mode&0o004 != 0 {
					in.reportFile(path, f,
						fmt.Sprintf("everybody on this machine may read %s (mode %04o), and it holds secrets",
							path, fact.Mode), "chmod 600 '"+path+"'")
				}
			})
		},
	}, {
		Name: "env-file-tracked", Severity: Warning, Needs: Machine,
		Title: "an environment file with secrets under version control",
		Text: "A copy of the repository holds the secrets, those of the past too. Ignore the file, take " +
			"it out of the index, and change the secrets.",
		Mistake: `A_PASSWORD='three words of our own'    # after: git add mast.env`,
		Mended:  `# after: git rm --cached mast.env, and *.env in .gitignore`,
		Find: func(in *Input) {
			eachSecretFile(in, func(path string, f *declare.EnvFile, fact lab.FileFact) {
				if fact.Tracked {
					in.reportFile(path, f, path+" holds secrets, and version control lists it",
						"git rm --cached '"+path+"', and *.env into .gitignore")
				}
			})
		},
	}, {
		Name: "env-unused", Severity: Note, Needs: Files,
		Title:   "a value of [let] that nothing uses, or an entry of an environment file that only [let] could use",
		Text:    "Perhaps a reference is missing, or it can go.",
		Mistake: "[let]\nspare = \"z\"    # and no ${spare}",
		Mended:  `env.B = "${spare}"`,
		Find:    resolverFinds,
	}, {
		Name: "env-overridden", Severity: Note, Needs: Files,
		Title:   "a variable is set in several places, to different values",
		Text:    "env wins over environment files, and a later file over an earlier one. lantern env shows it all.",
		Mistake: "env-files = [\"mast.env\"]    # with LEVEL=info\nenv.LEVEL = \"debug\"",
		Mended:  `env-files = ["mast.env"]`,
		Find: func(in *Input) {
			for _, s := range in.services() {
				for _, v := range s.Env {
					for _, weaker := range v.Overrides {
						if weaker.Value.Same(v.Value) || weaker.Origin == lab.FromZone ||
							weaker.Origin == lab.FromOwner || weaker.Origin == v.Origin {
							continue // other rules say more of these
						}
						in.report(s, source.Problem{
							At:      v.At,
							Message: fmt.Sprintf("%s is set in several places; this value wins", v.Name),
							Because: []source.Because{{Text: "without effect", At: weaker.At}},
						})
						break
					}
				}
			}
		},
	}, {
		Name: "env-weak-secret", Severity: Warning, Needs: Files,
		Title:   "a secret that is short, or among the commonest",
		Text:    "Twelve random letters take longer to guess than the machine lasts.",
		Mistake: `A_PASSWORD=lighthouse`,
		Mended:  `A_PASSWORD=three long words and a number of your own`,
		Find: func(in *Input) {
			for _, s := range in.services() {
				for _, v := range s.Env {
					// A path leads to a secret and is none; an empty value is none either; samples have a
					// rule of their own.
					value := v.Value.Reveal()
					if !v.Value.Secret() || path.IsAbs(value) || placeholder().MatchString(value) ||
						strings.Contains(value, "://") || len(v.Later) > 0 { // somebody else chooses it
						continue
					}
					if len(value) < 12 || slices.Contains(commonSecrets, strings.ToLower(value)) {
						in.reportOnce(s, source.Problem{
							At: v.At,
							Message: fmt.Sprintf("%s is easy to guess: %d characters",
								v.Name, utf8.RuneCountInString(value)),
						})
					}
				}
			}
		},
	}, {
		Name: "env-plain-secret", Severity: Warning, Needs: Files, Mends: true, Rests: Names,
		Title: "a secret in stack.toml or lab.toml",
		Text: "These files are for everybody who may see the lab, and for version control. An " +
			"environment file with mode 0600, which version control ignores, is the place for it.",
		Mistake: `env.A_PASSWORD = "three words of our own"`,
		Mended:  `env-files = ["mast.env"]    # with A_PASSWORD=three words of our own`,
		Find:    envPlainSecret,
	}, {
		Name: "secret-misplaced", Severity: Error, Needs: Files,
		Title: "a secret where everybody can read it, or where it would be sent to somebody",
		Text: "In an image, a host, a page, a path, a label or a name a secret ends up in lists, in " +
			"logs and in questions to registries and hosts. Values of the shell (${shell.NAME}) count as " +
			"secret unless the last word of their name says otherwise, such as TAG, VERSION, PORT or DIR.",
		Mistake: `image = "registry.skerry.example/desk:${api-token}"`,
		Mended:  `env.API_TOKEN = "${api-token}"`,
		Find:    resolverFinds,
	}, {
		Name: "env-secret-in-command", Severity: Warning, Needs: Files,
		Title: "a secret in a command, an entrypoint, a label or ready",
		Text: "Everybody on the host can read these. Variables from an environment file " +
			"are for the service alone.",
		Mistake: `command = ["--password=${pw}"]`,
		Mended:  `env.A_PASSWORD = "${pw}"`,
		Find:    envSecretInCommand,
	},
}

// commonSecrets are long enough and guessed first all the same.
var commonSecrets = []string{"passwordpassword", "password1234", "administrator", "123456789012",
	"1234567890123", "qwertyuiop123", "correcthorsebatterystaple", "letmeinletmein"}

func envSecretInCommand(in *Input) {
	for _, s := range in.services() {
		var secrets []string
		for _, v := range s.Env {
			if value := v.Value.Reveal(); v.Value.Secret() && len(value) >= 6 {
				secrets = append(secrets, value)
			}
		}
		holds := func(text string) bool {
			return slices.ContainsFunc(secrets, func(value string) bool { return strings.Contains(text, value) })
		}
		report := func(where string, at source.Span) {
			in.report(s, source.Problem{
				At: at,
				Message: fmt.Sprintf("a secret of %s is in %s: everybody on %s can read it",
					s.FullName(), where, s.Stack.Host.Name),
			})
		}
		words := func(key, where string, words []secret.Text) {
			for i, w := range words {
				if w.Secret() || holds(w.Reveal()) {
					report(where, s.ItemAt(key, strconv.Itoa(i)))
				}
			}
		}
		words("entrypoint", "its entrypoint", s.Settings.Entrypoint)
		words("command", "its command", s.Settings.Command)
		if s.Ready != nil {
			words("ready.command", "ready", s.Ready.Command)
		}
		if d := s.Declared(); d.Settings != nil {
			for _, l := range d.Settings.Labels {
				if holds(l.Text.Value) {
					report("a label", textAt(s, l.Text))
				}
			}
		}
	}
}

func envPlainSecret(in *Input) {
	for _, l := range in.Lab.PlainLets {
		if value := l.At.Text(); !path.IsAbs(value) && !placeholder().MatchString(value) {
			in.add(source.Problem{
				Stack:   l.Stack,
				At:      l.At,
				Message: fmt.Sprintf("%s of [let] holds a secret, and stands in %s", l.Name, l.At.File.Path),
				Mend: &source.Mend{
					Text: l.Name +
						" = { env-file = \"FILE.env\", key = \"NAME\" } takes it out of an environment file",
				},
			})
		}
	}
	for _, s := range in.services() {
		for _, v := range s.Env {
			for _, at := range v.Written {
				if v.Origin == lab.FromEnv && !placeholder().MatchString(at.Text()) {
					in.reportOnce(s, source.Problem{
						At: at,
						Message: fmt.Sprintf("the password in %s is a secret and stands in %s",
							v.Name, at.File.Path),
						Mend: &source.Mend{
							Text: "${NAME} in its place, with NAME = { env-file = \"FILE.env\", " +
								"key = \"NAME\" } in [let]",
						},
					})
				}
			}
			value := v.Value.Reveal()
			if !v.Value.Secret() || len(v.Written) > 0 || v.Origin != lab.FromEnv || v.At.Text() != value ||
				path.IsAbs(value) || placeholder().MatchString(value) {
				continue
			}
			p := source.Problem{
				At:      v.At,
				Message: fmt.Sprintf("%s is a secret and stands in %s", v.Name, v.At.File.Path),
			}
			if file := ownEnvFile(in.Lab, s); file != nil && wholeLine(v) && !strings.ContainsAny(value, "'\n") {
				end, text := len(file.Text), ""
				if file.Text != "" && !strings.HasSuffix(file.Text, "\n") {
					text = "\n"
				}
				p.Mend = &source.Mend{Text: "check --fix moves it into " + file.Path, Edits: []source.Edit{
					{At: lineSpan(v.At)},
					{At: file.Span(end, end), New: text + v.Name + "='" + value + "'\n",
						Shown: text + v.Name + "='" + v.Value.String() + "'\n"},
				}}
			}
			in.reportOnce(s, p)
		}
	}
}

// ownEnvFile returns the environment file that wins for a service, if it is in its stack's folder and gives
// it something already.
func ownEnvFile(l *lab.Lab, s *lab.Service) *source.File {
	var last *source.File
	for _, v := range s.Env {
		if f := l.EnvFiles[v.Origin]; f != nil && strings.HasPrefix(v.Origin, s.Stack.Name+"/") {
			if last != nil && last != f.File {
				return nil // which of several wins is for a person to say
			}
			last = f.File
		}
	}
	return last
}

// wholeLine reports whether a variable has a line of its own: env.NAME = "value".
func wholeLine(v lab.Variable) bool {
	line := strings.TrimSpace(lineOf(v.At))
	return strings.HasPrefix(line, "env."+v.Name) && strings.HasSuffix(line, v.At.Text()+`"`)
}

// lineSpan returns the whole line of a place, with its end.
func lineSpan(at source.Span) source.Span {
	start := strings.LastIndexByte(at.File.Text[:at.Start], '\n') + 1
	return at.File.Span(start, start+len(lineOf(at))+1)
}

// eachSecretFile calls f for each environment file that holds secrets and was looked at.
func eachSecretFile(in *Input, f func(path string, file *declare.EnvFile, fact lab.FileFact)) {
	for _, path := range sortedKeys(in.Lab.EnvFiles) {
		file := in.Lab.EnvFiles[path]
		if file == nil ||
			!slices.ContainsFunc(file.Entries, func(e declare.EnvEntry) bool {
				return declare.IsSecret(e.Name) && e.Value.Value != ""
			}) {
			continue
		}
		fact, ok := in.Lab.Files[path]
		if !ok {
			in.skip(path, "files of this machine not surveyed")
			continue
		}
		f(path, file, fact)
	}
}

// reportFile reports about an environment file as a whole.
func (in *Input) reportFile(path string, f *declare.EnvFile, message, mend string) {
	stack, _, inside := strings.Cut(path, "/")
	if !inside || in.Lab.Stack(stack) == nil {
		stack = ""
	}
	in.add(source.Problem{Stack: stack, At: f.File.Span(0, 0), Message: message, Mend: &source.Mend{Text: mend}})
}
