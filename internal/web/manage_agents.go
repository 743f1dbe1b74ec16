package web

import (
	"context"
	"net/http"

	"oskeld.dev/oskeld/internal/core/admit"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/service"
)

// manageAgents are the operations with which people look after agents.
func (s *Server) manageAgents(ops operations) {
	svc := s.service
	operate(ops, service.Known, http.MethodGet, "/agents", "agents", "List agents",
		func(ctx context.Context, a service.Actor, _ *none) (listed[view.Agent], error) {
			return all(svc.Agents(ctx, a))
		})
	operate(ops, service.Own, http.MethodPost, "/agents", "agent-add", "Make a token with which one agent may join",
		func(ctx context.Context, a service.Actor, _ *none) (map[string]string, error) {
			token, err := svc.AddJoinToken(ctx, a)
			return map[string]string{"token": token}, err
		})
	operate(ops, service.Own, http.MethodDelete, "/agents/{name}", "agent-remove", "Bar an agent",
		func(ctx context.Context, a service.Actor, in *ByName) (done, error) {
			return done{true}, svc.RemoveAgent(ctx, a, in.Name)
		})
	type setAgent struct {
		ByName
		Body struct {
			Draining *bool       `json:"draining,omitempty" doc:"give it no new work"`
			Admits   *admit.List `json:"admits,omitempty" doc:"the pipelines and refs that it is for; empty for all"`
		}
	}
	operate(ops, service.Own, http.MethodPut, "/agents/{name}", "agent-set", "Keep new work from an agent, or give it some again, and say whom it is for",
		func(ctx context.Context, a service.Actor, in *setAgent) (done, error) {
			if in.Body.Admits != nil {
				if err := svc.SetAgentAdmits(ctx, a, in.Name, *in.Body.Admits); err != nil {
					return done{}, err
				}
			}
			if in.Body.Draining != nil {
				return done{true}, svc.Drain(ctx, a, in.Name, *in.Body.Draining)
			}
			return done{true}, nil
		})
}
