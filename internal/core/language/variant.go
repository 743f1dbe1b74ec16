package language

import (
	"slices"
	"strings"
)

// Axis is a name and the values that a stage varies over.
type Axis struct {
	Name   string
	Values []string
}

// Pair is an axis and one of its values.
type Pair struct {
	Axis  string `json:"axis"`
	Value string `json:"value"`
}

// Variant is one combination of values, in the order of the axes; empty for a stage that does not vary.
type Variant []Pair

// Get is the value of an axis, "" where the variant has none.
func (v Variant) Get(axis string) string {
	for _, p := range v {
		if p.Axis == axis {
			return p.Value
		}
	}
	return ""
}

// String gives the values as people read them: "linux amd64".
func (v Variant) String() string {
	values := make([]string, len(v))
	for i, p := range v {
		values[i] = p.Value
	}
	return strings.Join(values, " ")
}

// Map gives the values by axis.
func (v Variant) Map() map[string]string {
	m := make(map[string]string, len(v))
	for _, p := range v {
		m[p.Axis] = p.Value
	}
	return m
}

// Agrees tells whether two variants have the same value on every axis that both have; of axes, only
// those named when there are any.
func (v Variant) Agrees(other Variant, axes ...string) bool {
	for _, p := range v {
		if len(axes) > 0 && !slices.Contains(axes, p.Axis) {
			continue
		}
		if value := other.Get(p.Axis); value != "" && value != p.Value {
			return false
		}
	}
	return true
}

// fits tells whether a variant has all the pairs of a partial one.
func (v Variant) fits(partial Variant) bool {
	return !slices.ContainsFunc(partial, func(p Pair) bool { return v.Get(p.Axis) != p.Value })
}

// product is how many combinations the axes have, before any is omitted.
func product(axes []Axis) int {
	n := 1
	for _, a := range axes {
		if n *= len(a.Values); n > 1<<20 {
			return n
		}
	}
	return n
}

// Variants lists what a stage varies over by itself: all combinations of the axes, the first axis
// slowest, without those omitted, then those added. A stage that does not vary has one, empty.
func (s *Stage) Variants() []Variant {
	if len(s.Vary) == 0 {
		return []Variant{nil}
	}
	all := []Variant{nil}
	for _, axis := range s.Vary {
		next := make([]Variant, 0, len(all)*len(axis.Values))
		for _, v := range all {
			for _, value := range axis.Values {
				next = append(next, append(slices.Clone(v), Pair{axis.Name, value}))
			}
		}
		all = next
	}
	all = slices.DeleteFunc(all, func(v Variant) bool { return slices.ContainsFunc(s.Omit, v.fits) })
	for _, extra := range s.Also {
		if !slices.ContainsFunc(all, extra.fits) {
			all = append(all, extra)
		}
	}
	return all
}
