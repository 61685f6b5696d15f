package site

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"sync"

	"keenlodge/internal/core/suggest"
)

// Settings are what a medium needs to know of a store's place: a pointer to a struct whose fields have yaml, json and doc tags. In the
// site file they stand beside what all stores have in common.
type Settings interface {
	// Check finds what is wrong in them by themselves; a [SettingError] names the field.
	Check() error
	// Location is what tells one store's location from another's, in words.
	Location() string
}

// Remote is what settings of a medium implement that is signed in to: who signs in where.
type Remote interface {
	// Account tells one account on one host from others, in words. What signs in to one must go to no other.
	Account() string
}

// SettingError is a mistake in a setting. Field is its name in the site file.
type SettingError struct{ Field, Why string }

func (e *SettingError) Error() string { return e.Why }

// BadSetting is the error for a setting that can't be.
func BadSetting(field, format string, args ...any) error {
	return &SettingError{field, fmt.Sprintf(format, args...)}
}

// Missing is the error for a setting that a medium can't do without.
func Missing(medium, field string) error {
	return &SettingError{"", fmt.Sprintf("medium %s needs %s", medium, field)}
}

// media has how the settings of each known medium begin. Their packages register them.
var media = map[string]func() Settings{}

// RegisterMedium makes a medium known to site files. empty makes its settings, with nothing set.
func RegisterMedium(name string, empty func() Settings) { media[name] = empty }

// Media lists every known medium.
func Media() []string { return slices.Sorted(maps.Keys(media)) }

// EmptySettings makes the settings of a medium, with nothing set.
func EmptySettings(medium string) (Settings, error) {
	empty, ok := media[medium]
	if !ok {
		return nil, fmt.Errorf("medium %q is not known%s; known are %s", medium, suggest.Hint(medium, Media()), suggest.List(Media()))
	}
	return empty(), nil
}

// unknownSettings are those of a medium that this program does not know: another version wrote them. They are kept as they are.
type unknownSettings struct {
	medium string
	all    map[string]json.RawMessage
}

func (u unknownSettings) Check() error {
	_, err := EmptySettings(u.medium)
	return err
}

func (u unknownSettings) Location() string { return "a place of medium " + u.medium }

// common is a Store without its own ways to be read and written: what all stores have.
type common Store

var flatTypes sync.Map // of a medium's settings, by their type

// flatType is a struct that has the fields of common and of a medium's settings side by side.
func flatType(settings Settings) reflect.Type {
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
func (s *Store) fill(flat reflect.Value, settings Settings) {
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
	settings, err := EmptySettings(name)
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
	settings, err := EmptySettings(peek.Medium)
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

func (s *Store) set(settings Settings) error {
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
