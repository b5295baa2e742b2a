package hostconn

import (
	"context"
	"errors"
	"sync"
)

// Person is somebody at a terminal who can be asked. What a machine has said is part of the questions: it is not
// harmless yet.
type Person interface {
	// Secret asks for something that is not shown while it is typed.
	Secret(ctx context.Context, question string) (string, error)
	// Answer asks for something that is shown.
	Answer(ctx context.Context, question string) (string, error)
	// Agree says something, and asks whether it is right.
	Agree(ctx context.Context, statement, question string) (bool, error)
}

type personKey struct{}

// WithPerson lets connections ask somebody: for passphrases, for passwords, and whether an unknown key is right.
// Without, what would have to be asked is an error.
func WithPerson(ctx context.Context, p Person) context.Context {
	return context.WithValue(ctx, personKey{}, oneAtATime{p, &sync.Mutex{}})
}

// personOf returns whom a connection may ask; nil for nobody.
func personOf(ctx context.Context) Person {
	if p, ok := ctx.Value(personKey{}).(oneAtATime); ok {
		return p
	}
	return nil
}

// errNotAgreed is what came of asking whether a key is right.
var errNotAgreed = errors.New("it was not agreed to")

// oneAtATime asks one question after the other, whatever number of machines is connected to at once.
type oneAtATime struct {
	person Person
	mu     *sync.Mutex
}

func (o oneAtATime) Secret(ctx context.Context, question string) (string, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.person.Secret(ctx, question)
}

func (o oneAtATime) Answer(ctx context.Context, question string) (string, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.person.Answer(ctx, question)
}

func (o oneAtATime) Agree(ctx context.Context, statement, question string) (bool, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.person.Agree(ctx, statement, question)
}
