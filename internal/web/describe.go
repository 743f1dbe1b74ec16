package web

import (
	"bytes"
	"html/template"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
)

var describePage = template.Must(template.New("api").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><title>Oskeld: the API</title>
<meta name="viewport" content="width=device-width">
<style>body{font:16px/1.5 system-ui,sans-serif;max-width:60rem;margin:2rem auto;padding:0 1rem;background:#F7F5F0;color:#23262E}
code{font-family:ui-monospace,monospace}td{padding:.3rem 1rem .3rem 0;vertical-align:top}a{color:#C2410C}small{color:#5b6069}</style>
<h1>Oskeld: the API</h1>
<p>JSON under <code>/api/v1</code>, described by <a href="/api/v1/openapi.json">an OpenAPI 3.1 document</a>. Errors are
<code>application/problem+json</code>. Sign in with <code>Authorization: Bearer TOKEN</code>.</p>
{{range .}}<h2>{{.Tag}}</h2><table>{{range .List}}<tr><td><code>{{.Method}}</code></td><td><code>{{.Path}}</code></td>
<td>{{.Summary}}<br><small>{{.Needs}}</small></td></tr>{{end}}</table>{{end}}</html>`))

type describedOperation struct{ Method, Path, Summary, Needs string }

type describedTag struct {
	Tag  string
	List []describedOperation
}

// describe sends a page that people can read, made from the same document.
func describe(c fiber.Ctx, api *huma.OpenAPI) error {
	tags := map[string]*describedTag{}
	var order []string
	paths := make([]string, 0, len(api.Paths))
	for p := range api.Paths {
		paths = append(paths, p)
	}
	slices.Sort(paths)
	for _, p := range paths {
		item := api.Paths[p]
		for _, op := range []*huma.Operation{item.Get, item.Post, item.Put, item.Delete} {
			if op == nil {
				continue
			}
			tag := op.Tags[0]
			if tags[tag] == nil {
				tags[tag] = &describedTag{Tag: tag}
				order = append(order, tag)
			}
			tags[tag].List = append(tags[tag].List, describedOperation{op.Method, p, op.Summary, op.Description})
		}
	}
	slices.SortFunc(order, strings.Compare)
	list := make([]*describedTag, len(order))
	for i, tag := range order {
		list[i] = tags[tag]
	}
	var page bytes.Buffer
	if err := describePage.Execute(&page, list); err != nil {
		return err
	}
	c.Set(fiber.HeaderContentType, "text/html; charset=utf-8")
	return c.Send(page.Bytes())
}
