package service

import (
	"context"
	"fmt"
	"strings"

	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
)

// wants says what each waiting stage run waits for.
func (s *Service) wants(ctx context.Context, b database.Build, runs []view.StageRun) error {
	agents, err := s.DB.Agents(ctx)
	if err != nil {
		return err
	}
	list, err := s.DB.AheadOf(ctx, b.ID)
	if err != nil {
		return err
	}
	ahead := map[int]database.Ahead{}
	for _, a := range list {
		ahead[a.Index] = a
	}
	project, err := s.DB.Project(ctx, b.ProjectName)
	if err != nil {
		return err
	}
	busy, err := s.DB.Busy(ctx)
	if err != nil {
		return err
	}
	full := project.MostPlaces > 0 && busy[project.ID] >= project.MostPlaces
	for i := range runs {
		r := &runs[i]
		if r.State != progress.Waiting {
			continue
		}
		var open []string
		for _, n := range r.Needs {
			if !runs[n].State.Over() {
				open = append(open, runs[n].Title())
			}
		}
		a := ahead[r.Chain]
		switch {
		case len(open) > 0:
			r.Wants = "waits for " + few(open, "and")
		case a.Behind != "":
			r.Wants = "waits for build " + a.Behind + " of the same branch to end"
		case a.Alone != "":
			r.Wants = fmt.Sprintf("waits to be alone with %q, which build %s has", a.Alone, a.Holder)
		case full:
			r.Wants = fmt.Sprintf("waits for one of the %d places of project %s", project.MostPlaces, project.Name)
		default:
			r.Wants = wantsAgent(b, b.Plan.Chains[r.Chain].Need(), agents, a.Before)
		}
	}
	return nil
}

// wantsAgent says for an agent of what kind a chain waits, with so many chains of the same demand before it.
func wantsAgent(b database.Build, need facts.Need, agents []database.Agent, before int) string {
	var fit, here []string
	var all []facts.Agent
	for _, a := range agents {
		candidate := facts.Agent{Name: a.Name, Facts: a.Facts, Closed: a.Admits.Refuses(b.PipelineName, b.Branch, b.Tag)}
		all = append(all, candidate)
		if candidate.Takes(need) {
			fit = append(fit, a.Name)
			if a.Here && !a.Draining {
				here = append(here, a.Name)
			}
		}
	}
	switch {
	case len(here) > 0 && before > 0:
		return ordinal(before+1) + " in line for a place on " + few(here, "or")
	case len(here) > 0:
		return "waits for a place on " + few(here, "or")
	case len(fit) > 0:
		return "waits for " + few(fit, "or") + ", away or draining now"
	}
	return fmt.Sprintf("waits for an agent with %s; %s", need.Demand, need.Nearest(all))
}

// few lists names with a word between, and tells of a long list only how many more there are.
func few(names []string, word string) string {
	if more := len(names) - 3; more > 1 {
		names = append(names[:3:3], fmt.Sprintf("%d more", more))
	}
	return strings.Join(names, " "+word+" ")
}

// ordinal writes 2 as "second", 21 as "21st".
func ordinal(n int) string {
	words := []string{"", "first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth", "ninth", "tenth"}
	if n < len(words) {
		return words[n]
	}
	if n > 1000 {
		return "far back"
	}
	ending := "th"
	if n/10%10 != 1 {
		switch n % 10 {
		case 1:
			ending = "st"
		case 2:
			ending = "nd"
		case 3:
			ending = "rd"
		}
	}
	return fmt.Sprintf("%d%s", n, ending)
}
