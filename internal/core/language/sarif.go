package language

import (
	"net/url"
	"path/filepath"
)

// SARIF gives diagnostics as a log of the Static Analysis Results Interchange Format 2.1.0 (OASIS),
// with the rules that they refer to. Columns count characters.
func (ds Diagnostics) SARIF(toolVersion string) any {
	index := map[string]int{}
	rules, results := []any{}, []any{}
	for _, d := range ds {
		if _, ok := index[d.Code]; !ok {
			e, _ := Explain(d.Code)
			index[d.Code] = len(rules)
			rules = append(rules, object{"id": d.Code, "shortDescription": object{"text": e.Title}, "fullDescription": object{"text": e.Text}})
		}
		level, text := "error", d.Message
		if d.Warning() {
			level = "warning"
		}
		if d.Advice != "" {
			text += " (" + d.Advice + ")"
		}
		results = append(results, object{
			"ruleId": d.Code, "ruleIndex": index[d.Code], "level": level, "message": object{"text": text},
			"locations": []any{object{"physicalLocation": object{
				"artifactLocation": object{"uri": (&url.URL{Path: filepath.ToSlash(d.File)}).String()},
				"region":           object{"startLine": d.Line, "startColumn": d.Column, "endColumn": d.Column + d.Length},
			}}},
		})
	}
	return object{
		"$schema": "https://json.schemastore.org/sarif-2.1.0.json", "version": "2.1.0",
		"runs": []any{object{
			"tool":       object{"driver": object{"name": "oskeld check", "version": toolVersion, "rules": rules}},
			"columnKind": "unicodeCodePoints", "results": results,
		}},
	}
}
