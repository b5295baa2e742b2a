package render

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/secret"
)

// fromImage is the origin of what no file declares and the image brings along.
const fromImage = "the image"

// Env writes the variables of services with where their values come from.
func Env(w io.Writer, p Paint, services []*lab.Service) {
	for i, s := range services {
		if i > 0 {
			fmt.Fprintln(w)
		}
		fmt.Fprintln(w, p.Head(s.FullName()))
		var rows [][]string
		for _, v := range withImage(s) {
			rows = append(rows, []string{v.Name, shownValue(p, v), p.Faint(from(v)), over(p, v)})
		}
		if len(rows) == 0 {
			fmt.Fprintln(w, "  no variables")
			continue
		}
		heads := []string{"variable", "value", "from", "wins over"}
		if !slices.ContainsFunc(rows, func(r []string) bool { return r[3] != "" }) {
			heads = heads[:3]
			for i := range rows {
				rows[i] = rows[i][:3]
			}
		}
		columns(w, p, heads, rows)
	}
}

// withImage returns the variables of a service, and those that only its image sets where that is known.
func withImage(s *lab.Service) []lab.Variable {
	all := slices.Clone(s.Env)
	if h := s.Stack.Host; h != nil && h.Survey != nil {
		if image, ok := h.Survey.Image(s.Image.Text); ok && image.Declares() {
			for name, value := range image.Env {
				brought := lab.Variable{
					Name:   name,
					Value:  secret.Of(value, declare.IsSecret(name)),
					Origin: fromImage,
				}
				i := slices.IndexFunc(all, func(v lab.Variable) bool { return v.Name == name })
				if i < 0 {
					all = append(all, brought)
				} else {
					all[i].Overrides = append([]lab.Variable{brought}, all[i].Overrides...)
				}
			}
		}
	}
	slices.SortFunc(all, func(a, b lab.Variable) int { return cmp.Compare(a.Name, b.Name) })
	return all
}

// from says where a value stands.
func from(v lab.Variable) string {
	if v.At.IsZero() {
		return v.Origin
	}
	place := v.At.Place()
	if v.Origin == lab.FromEnv || v.Origin == place.File {
		return fmt.Sprintf("%s:%d", place.File, place.Line)
	}
	return fmt.Sprintf("%s, %s:%d", v.Origin, place.File, place.Line)
}

func shownValue(p Paint, v lab.Variable) string {
	for _, l := range v.Later {
		switch {
		case !l.Lacks(v.Value.Reveal()):
		case l.From != nil:
			return p.Faint("made by " + l.From.FullName() + ", in " + l.File)
		default:
			return p.Faint("asked for at a deploy")
		}
	}
	if v.Value.Secret() {
		return p.Faint(v.Value.String())
	}
	return oneLine(v.Value.String())
}

// oneLine shows line breaks and tabs as they are written.
func oneLine(s string) string {
	return strings.NewReplacer("\n", `\n`, "\t", `\t`, "\r", `\r`).Replace(s)
}

func over(p Paint, v lab.Variable) string {
	var words []string
	for _, o := range slices.Backward(v.Overrides) {
		o.Value = secret.Of(o.Value.Reveal(), o.Value.Secret() || v.Value.Secret())
		words = append(words, shownValue(NewPaint(false), o)+" of "+from(o))
	}
	return p.Faint(strings.Join(words, "; "))
}

// EnvJSON writes the same for programs.
func EnvJSON(w io.Writer, services []*lab.Service) error {
	var translate func(v lab.Variable, hides bool) variable
	translate = func(v lab.Variable, hides bool) variable {
		j := variable{Name: v.Name, Secret: hides || v.Value.Secret(), Origin: v.Origin, At: placeJSON(v.At)}
		if !j.Secret {
			j.Value = v.Value.String()
		}
		for _, o := range v.Overrides {
			j.Overrides = append(j.Overrides, translate(o, j.Secret))
		}
		return j
	}
	list := []envService{}
	for _, s := range services {
		j := envService{Stack: s.Stack.Name, Service: s.Name, Variables: []variable{}}
		for _, v := range withImage(s) {
			j.Variables = append(j.Variables, translate(v, false))
		}
		list = append(list, j)
	}
	return JSON(w, Variables{first, list})
}
