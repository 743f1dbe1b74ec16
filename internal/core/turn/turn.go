// Package turn says whose turn it is when more chains wait than there are places: fair between
// projects, urgent before patient, and the longest waiting first.
//
//	for _, i := range turn.Order(offers, busy) {
//		// hand offers[i] out
//	}
package turn

import (
	"cmp"
	"slices"
	"time"
)

// Rank is how urgent a build is; lower comes first.
type Rank int

const (
	Person Rank = iota // somebody waits for it
	Call               // a push, a tag or another pipeline began it
	Clock              // nobody looks before the morning
)

// Offer is a chain that waits for a place.
type Offer struct {
	Project string
	Rank    Rank
	Ready   time.Time // since when it could have been taken
}

// Order gives the order in which to hand offers out, as indices. Busy is how many places each project
// has now. The next is always of the project that would then have the fewest; among those the most
// urgent; of these the one that waits longest.
func Order(offers []Offer, busy map[string]int) []int {
	queues := map[string][]int{}
	var projects []string
	for i, o := range offers {
		if queues[o.Project] == nil {
			projects = append(projects, o.Project)
		}
		queues[o.Project] = append(queues[o.Project], i)
	}
	before := func(a, b int) int {
		return cmp.Or(cmp.Compare(offers[a].Rank, offers[b].Rank), offers[a].Ready.Compare(offers[b].Ready), cmp.Compare(a, b))
	}
	for _, q := range queues {
		slices.SortFunc(q, before)
	}
	has := map[string]int{}
	for _, p := range projects {
		has[p] = busy[p]
	}
	order := make([]int, 0, len(offers))
	for len(order) < len(offers) {
		next := ""
		for _, p := range projects {
			if len(queues[p]) > 0 && (next == "" || cmp.Or(cmp.Compare(has[p], has[next]), before(queues[p][0], queues[next][0])) < 0) {
				next = p
			}
		}
		order = append(order, queues[next][0])
		queues[next] = queues[next][1:]
		has[next]++
	}
	return order
}
