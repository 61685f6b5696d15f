package site

import (
	"encoding/json"
	"errors"
	"reflect"
	"slices"
	"sync"

	"keenlodge/internal/core/media"
)

// unknownSettings are those of a medium that this program does not know: another version wrote them. They are kept as they are.
type unknownSettings struct {
	medium string
	all    map[string]json.RawMessage
}

func (u unknownSettings) Check() error {
	_, err := media.Empty(u.medium)
	return err
}

func (u unknownSettings) Location() string { return "a place of medium " + u.medium }

// common is a Store without its own ways to be read and written: what all stores have.
type common Store

var flatTypes sync.Map // of a medium's settings, by their type

// flatType is a struct that has the fields of common and of a medium's settings side by side.
func flatType(settings media.Settings) reflect.Type {
	of := reflect.TypeOf(settings).Elem()
	if t, ok := flatTypes.Load(of); ok {
		return t.(reflect.Type)
	}
	fields := commonFields()
	at := slices.IndexFunc(fields, func(f reflect.StructField) bool { return f.Name == "Layout" }) + 1
	var own []reflect.StructField
	for i := range of.NumField() {
		own = append(own, of.Field(i))
	}
	t := reflect.StructOf(slices.Insert(fields, at, own...))
	flatTypes.Store(of, t)
	return t
}

// commonFields are the fields of common but its settings.
func commonFields() (fields []reflect.StructField) {
	for f := range reflect.TypeFor[common]().Fields() {
		if f.Name != "Settings" {
			fields = append(fields, f)
		}
	}
	return fields
}

// flat copies a store into a value of its flat type.
func (s Store) flat() reflect.Value {
	out := reflect.New(flatType(s.Settings))
	copyFields(out.Elem(), reflect.ValueOf(s))
	copyFields(out.Elem(), reflect.ValueOf(s.Settings).Elem())
	return out
}

// copyFields sets the fields of a struct that another has, too.
func copyFields(to, from reflect.Value) {
	for i := range to.NumField() {
		if f := from.FieldByName(to.Type().Field(i).Name); f.IsValid() {
			to.Field(i).Set(f)
		}
	}
}

// fill takes a store from a value of its flat type.
func (s *Store) fill(flat reflect.Value, settings media.Settings) {
	all := reflect.ValueOf(s).Elem()
	for _, to := range []reflect.Value{all, reflect.ValueOf(settings).Elem()} {
		for i := range to.NumField() {
			if f := flat.Elem().FieldByName(to.Type().Field(i).Name); f.IsValid() {
				to.Field(i).Set(f)
			}
		}
	}
	s.Settings = settings
}

// UnmarshalYAML reads a store's entry, with the settings of its medium beside the rest.
func (s *Store) UnmarshalYAML(read func(any) error) error {
	var all map[string]any
	if err := read(&all); err != nil {
		return err
	}
	name, _ := all["medium"].(string)
	settings, err := media.Empty(name)
	if err != nil { // Check says so; what else is in the entry can't be understood without its medium
		*s = Store{Medium: name, Settings: unknownSettings{medium: name}}
		return nil
	}
	flat := reflect.New(flatType(settings))
	if err := read(flat.Interface()); err != nil {
		return err
	}
	s.fill(flat, settings)
	return nil
}

// MarshalYAML writes a store's entry.
func (s Store) MarshalYAML() (any, error) {
	if s.Settings == nil {
		return common(s), nil
	}
	if u, ok := s.Settings.(unknownSettings); ok {
		return nil, u.Check()
	}
	return s.flat().Interface(), nil
}

// UnmarshalJSON reads a store's entry, with the settings of its medium beside the rest.
func (s *Store) UnmarshalJSON(text []byte) error {
	var peek struct {
		Medium string `json:"medium"`
	}
	if err := json.Unmarshal(text, &peek); err != nil {
		return err
	}
	settings, err := media.Empty(peek.Medium)
	if err != nil {
		u := unknownSettings{medium: peek.Medium}
		return errors.Join(json.Unmarshal(text, (*common)(s)), json.Unmarshal(text, &u.all), s.set(u))
	}
	flat := reflect.New(flatType(settings))
	if err := json.Unmarshal(text, flat.Interface()); err != nil {
		return err
	}
	s.fill(flat, settings)
	return nil
}

func (s *Store) set(settings media.Settings) error {
	s.Settings = settings
	return nil
}

// MarshalJSON writes a store's entry.
func (s Store) MarshalJSON() ([]byte, error) {
	switch u := s.Settings.(type) {
	case nil:
		return json.Marshal(common(s))
	case unknownSettings:
		return json.Marshal(u.all)
	}
	return json.Marshal(s.flat().Interface())
}
