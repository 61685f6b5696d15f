// Package schema says in the OpenAPI document what the types do not: which words each kind has, and the settings of each medium.
package schema

import (
	"reflect"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/core/back"
	"keenlodge/internal/core/deed"
	"keenlodge/internal/core/event"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/layout"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/probe"
	"keenlodge/internal/core/right"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/wire"
)

// words has the list of every kind that travels, by its type: the OpenAPI document says what each can be.
var words = map[reflect.Type][]any{}

func list[T any](of []T) {
	out := make([]any, len(of))
	for i, v := range of {
		out[i] = reflect.ValueOf(v).String()
	}
	words[reflect.TypeFor[T]()] = out
}

func init() {
	list(run.Kinds)
	list(run.Causes)
	list(run.States)
	list(run.Lines)
	list(image.States)
	list(image.Scopes)
	list(image.Captures)
	list(image.Levels)
	list(layout.Ways)
	list(layout.Tables)
	list(back.Rules)
	list(back.Actions)
	list(image.Consistencies)
	list(machine.States)
	list(machine.Quiesces)
	list(site.Layouts)
	list(site.Compressions)
	list(site.Moments)
	list(event.Names)
	list(deed.Results)
	list(right.Operations)
	list(wire.Changes)
	list(probe.Verdicts)
	list(wire.Verdicts)
}

// Name names a type in the OpenAPI document. What the site file says of a policy or a store is told from what people see of it.
func Name(t reflect.Type, hint string) string {
	name := huma.DefaultSchemaNamer(t, hint)
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if t.PkgPath() == sitePackage && name != "Site" {
		name = "Site" + name
	}
	return name
}

var sitePackage = reflect.TypeFor[site.Site]().PkgPath()

// Complete adds to the schemas what the types do not say: the words of each kind, and the settings of each medium beside a store's.
func Complete(reg huma.Registry) {
	for name, schema := range reg.Map() {
		t := reg.TypeFromRef("#/components/schemas/" + name)
		if t == nil || t.Kind() != reflect.Struct {
			continue
		}
		addWords(schema, t)
		if t == reflect.TypeFor[site.Store]() || t == reflect.TypeFor[wire.Store]() {
			schema.Properties["medium"].Enum = anyOf(medium.Drivers())
			for _, driver := range medium.Drivers() {
				addSettings(reg, schema, driver)
			}
		}
		schema.PrecomputeMessages()
	}
}

func anyOf(names []string) []any {
	out := make([]any, len(names))
	for i, n := range names {
		out[i] = n
	}
	return out
}

// addWords gives a struct's properties the words that they can be; a tag may narrow them.
func addWords(schema *huma.Schema, t reflect.Type) {
	for f := range t.Fields() {
		if f.Anonymous && f.Type.Kind() == reflect.Struct {
			addWords(schema, f.Type)
			continue
		}
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		property := schema.Properties[name]
		if property == nil {
			continue
		}
		of := f.Type
		if of.Kind() == reflect.Slice && property.Items != nil {
			of, property = of.Elem(), property.Items
		}
		if list, ok := words[of]; ok && property.Enum == nil {
			property.Enum = list
			if strings.Contains(f.Tag.Get("json"), "omitempty") || mayBeEmpty(t, f.Name) {
				property.Enum = append([]any{""}, list...)
			}
		}
	}
}

// AddQueryWords gives parameters the words that they can be, by the types of the fields that they are read into; another is refused.
func AddQueryWords(parameters []*huma.Param, t reflect.Type) {
	for f := range t.Fields() {
		for _, p := range parameters {
			if list, ok := words[f.Type]; ok && p.In == "query" && p.Name == f.Tag.Get("query") {
				p.Schema.Enum = list
				p.Schema.PrecomputeMessages()
			}
		}
	}
}

// mayBeEmpty reports whether a property that is always there may have no word yet: an image that is being written has no consistency, one
// that was never proven no level.
func mayBeEmpty(t reflect.Type, field string) bool {
	return (t == reflect.TypeFor[wire.Image]() || t == reflect.TypeFor[wire.LaneImage]() || t == reflect.TypeFor[wire.NewestImage]()) && (field == "Consistency" || field == "Proven")
}

// addSettings adds a medium's settings to a store's schema.
func addSettings(reg huma.Registry, schema *huma.Schema, driver string) {
	d, err := medium.Lookup(driver)
	if err != nil {
		return
	}
	for name, property := range huma.SchemaFromType(reg, reflect.TypeOf(d.Settings()).Elem()).Properties {
		doc := driver + ": " + property.Description
		if known := schema.Properties[name]; known != nil {
			known.Description += "; " + doc
			continue
		}
		property.Description = doc
		schema.Properties[name] = property
	}
}

// Operations are the names of all operations of the interface.
func Operations(doc *huma.OpenAPI) (names []string) {
	for _, path := range doc.Paths {
		for _, op := range []*huma.Operation{path.Get, path.Post, path.Put, path.Patch, path.Delete} {
			if op != nil {
				names = append(names, op.OperationID)
			}
		}
	}
	slices.Sort(names)
	return names
}
