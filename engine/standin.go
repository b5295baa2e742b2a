package engine

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"

	"github.com/moby/moby/api/types/image"

	"proudlantern.example/lantern/core/survey"
)

// StandInName is the name under which the built-in stand-in engine answers.
const StandInName = "Lantern stand-in"

// StandInMachine is where the stand-in tells what the machine is like that it stands in for: a survey
// document. It is no part of the engine API.
const StandInMachine = "/stand-in/machine"

// StandInTags is where the stand-in tells which tags its registry has of a repository: a list of texts.
const StandInTags = "/stand-in/tags"

// StandInRepositories is where the stand-in tells which names the registry of an image has: a list of texts.
const StandInRepositories = "/stand-in/repositories"

// StandInImage is where the stand-in tells what an image declares that its registry has.
const StandInImage = "/stand-in/image"

// FromRegistry returns what an image declares that only the registry of a stand-in has; false from a real engine.
func (e *Engine) FromRegistry(ctx context.Context, reference string) (i survey.Image, ok bool) {
	if !e.standIn {
		return i, false
	}
	err := e.raw(ctx, http.MethodGet, StandInImage+"?of="+url.QueryEscape(reference), func(answer *http.Response) error {
		var r image.InspectResponse
		err := json.NewDecoder(answer.Body).Decode(&r)
		i = e.declared(reference, r)
		i.Source = survey.FromRegistry
		return err
	})
	return i, err == nil
}

// Machine returns what the stand-in engine says of the machine that it stands in for; nil from a real engine
// and from a stand-in on the real machine.
func (e *Engine) Machine(ctx context.Context) (*survey.Survey, error) {
	if !e.standIn {
		return nil, nil
	}
	var s *survey.Survey
	err := e.raw(ctx, http.MethodGet, StandInMachine, func(answer *http.Response) error {
		if answer.StatusCode == http.StatusNotFound {
			return nil
		}
		s = &survey.Survey{}
		return json.NewDecoder(answer.Body).Decode(s)
	})
	return s, err
}
