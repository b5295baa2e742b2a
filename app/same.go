package app

import (
	"context"

	"proudlantern.example/lantern/deploy"
)

// strangers returns services that run on a host under the lab's name and that this clone has not met: another
// clone of the lab has deployed them, or another lab has the same name. Only the person can know which.
func (w *Workspace) strangers(ctx context.Context, d *deploy.Deployer) ([]deploy.Elsewhere, error) {
	known, err := w.Book().Met()
	if err != nil {
		w.warn("%s", logbookTrouble(err))
	}
	found, err := d.Elsewhere(ctx, known)
	if err != nil {
		return nil, unreachable(d.Host, err)
	}
	return found, nil
}

// Meet remembers that what was deployed from other places is this very lab's.
func (w *Workspace) Meet(found []deploy.Elsewhere) {
	for _, e := range found {
		if err := w.Book().Meet(e.Place); err != nil {
			w.warn("this will be asked again: %s", logbookTrouble(err))
		}
	}
}
