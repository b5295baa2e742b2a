package cli

import (
	"context"
	"strings"

	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/hostconn"
	"proudlantern.example/lantern/internal/system"
)

// withQuestions lets connections ask who is at the terminal; nobody where there is none.
func (s *session) withQuestions(ctx context.Context) context.Context {
	if !isTerminal(s.In) || !isTerminal(s.Err) {
		return ctx
	}
	return hostconn.WithPerson(ctx, questioner{s})
}

// questioner asks who sits at the terminal.
type questioner struct{ *session }

// mostQuestion is how much of what a machine wants to have asked is shown, in letters.
const mostQuestion = 300

func harmless(question string) string {
	letters := []rune(render.Harmless(question))
	return string(letters[:min(len(letters), mostQuestion)])
}

// Secret asks for something that is not shown while it is typed.
func (p questioner) Secret(ctx context.Context, question string) (string, error) {
	shown, err := system.HideTyping(int(terminal(p.In).Fd()))
	if err != nil {
		return "", err
	}
	defer shown()
	p.tell(harmless(strings.TrimRight(question, ": ")) + "? It is not shown.")
	return p.typed(ctx)
}

// Answer asks for something that is shown.
func (p questioner) Answer(ctx context.Context, question string) (string, error) {
	return p.answer(ctx, harmless(question))
}

// Agree says something, and asks whether it is right.
func (p questioner) Agree(ctx context.Context, statement, question string) (bool, error) {
	p.tell(harmless(statement))
	answer, err := p.answer(ctx, harmless(question)+"? [y/N]")
	return strings.EqualFold(answer, "y") || strings.EqualFold(answer, "yes"), err
}
