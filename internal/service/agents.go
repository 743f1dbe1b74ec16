package service

import (
	"context"
	"strconv"
	"time"

	"oskeld.dev/oskeld/internal/core/admit"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
)

// AddJoinToken makes a token with which one agent may join, within a day.
func (s *Service) AddJoinToken(ctx context.Context, a Actor) (string, error) {
	if err := owns(a); err != nil {
		return "", err
	}
	text, digest := newToken(joinToken)
	if err := s.DB.AddJoinToken(ctx, digest, a.Name, time.Now().Add(24*time.Hour)); err != nil {
		return "", err
	}
	return text, s.DB.AddRecord(ctx, a.Name, "join token added", "agents", nil)
}

// Join makes an agent of whoever brings a join token, and gives the agent's own token.
func (s *Service) Join(ctx context.Context, token, name string, call assignment.Call) (string, error) {
	if _, err := artifact.ParseName("agent", name); err != nil {
		return "", err
	}
	text, digest := newToken(agentToken)
	return text, s.DB.Change(ctx, func(tx *database.DB) error {
		if err := tx.UseJoinToken(ctx, digestOf(token)); err != nil {
			return err
		}
		if _, err := tx.AddAgent(ctx, database.Agent{ID: newID(), Name: name, Facts: call.Facts, Places: call.Places}, digest); err != nil {
			return err
		}
		return tx.AddRecord(ctx, "agent "+name, "agent joined", "agent "+name, nil)
	})
}

// Agents lists all agents.
func (s *Service) Agents(ctx context.Context, a Actor) ([]view.Agent, error) {
	list, err := s.DB.Agents(ctx)
	return mapped(list, func(x database.Agent) view.Agent {
		return view.Agent{Name: x.Name, Facts: x.Facts, Places: x.Places, Does: x.Does, Here: x.Here, Draining: x.Draining, Admits: orEmptyAdmits(x.Admits), SeenAt: x.SeenAt, CreatedAt: x.CreatedAt}
	}), err
}

// RemoveAgent bars an agent.
func (s *Service) RemoveAgent(ctx context.Context, a Actor, name string) error {
	if err := owns(a); err != nil {
		return err
	}
	if err := s.DB.RemoveAgent(ctx, name); err != nil {
		return err
	}
	return s.DB.AddRecord(ctx, a.Name, "agent removed", "agent "+name, nil)
}

// Leave takes back what an agent runs, since it leaves: others may have it at once, and it does not count as
// lost.
func (s *Service) Leave(ctx context.Context, agent database.Agent) error {
	if err := s.DB.LeaveAgent(ctx, agent.ID); err != nil {
		return err
	}
	list, err := s.DB.NotHeld(ctx, agent.ID, nil)
	if err != nil {
		return err
	}
	for _, h := range list {
		h.Uncounted = true
		if err := s.lose(ctx, h); err != nil {
			return err
		}
	}
	s.Hub.Tell(TopicBuilds)
	return s.DB.AddRecord(ctx, "agent "+agent.Name, "agent left", "agent "+agent.Name, map[string]string{"gave back": strconv.Itoa(len(list))})
}

func orEmptyAdmits(l admit.List) admit.List {
	return admit.List{Pipelines: orEmpty(l.Pipelines), Refs: orEmpty(l.Refs)}
}

// SetAgentAdmits says for which pipelines and refs an agent is there; what it runs already goes on.
func (s *Service) SetAgentAdmits(ctx context.Context, a Actor, name string, l admit.List) error {
	if err := owns(a); err != nil {
		return err
	}
	if err := s.checkAdmits(ctx, l); err != nil {
		return err
	}
	if err := s.DB.SetAdmits(ctx, name, l); err != nil {
		return err
	}
	s.Hub.Tell(TopicWork, TopicBuilds)
	return s.DB.AddRecord(ctx, a.Name, "agent set", "agent "+name, map[string]string{"admits": l.String()})
}

// checkAdmits refuses patterns that cannot be read, and pipelines that are not there.
func (s *Service) checkAdmits(ctx context.Context, l admit.List) error {
	if err := l.Check(); err != nil {
		return err
	}
	for _, name := range l.Pipelines {
		if _, err := s.DB.Pipeline(ctx, name); err != nil {
			return err
		}
	}
	return nil
}

// Drain keeps new work from an agent, or gives it some again; what it runs it brings to its end.
func (s *Service) Drain(ctx context.Context, a Actor, name string, draining bool) error {
	if err := owns(a); err != nil {
		return err
	}
	if err := s.DB.Drain(ctx, name, draining); err != nil {
		return err
	}
	s.Hub.Tell(TopicWork, TopicBuilds)
	did := map[bool]string{true: "agent drains", false: "agent takes work again"}[draining]
	return s.DB.AddRecord(ctx, a.Name, did, "agent "+name, nil)
}
