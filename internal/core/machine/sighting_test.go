package machine

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// What the answer of quay-1 means, by what is on record.
func TestSee(t *testing.T) {
	web := Known{ID: "u-web", Name: "web", Source: "quay-1", UUID: "u-web", State: Running}
	named := Known{ID: "named-quay-1/web", Name: "web", Source: "quay-1", State: Running}
	with := func(k Known, change func(*Known)) Known { change(&k); return k }
	names := func(list ...string) map[string]bool {
		out := map[string]bool{}
		for _, n := range list {
			out[n] = true
		}
		return out
	}
	for name, c := range map[string]struct {
		known []Known
		found []Found
		want  Sighting
	}{
		"nothing":                   {nil, nil, Sighting{}},
		"a new one":                 {nil, []Found{{"web", "u-web", Running}}, Sighting{Added: []Added{{ID: "u-web"}}, Names: names("web")}},
		"a new one of no UUID":      {nil, []Found{{"web", "", Running}}, Sighting{Added: []Added{{ID: "named-quay-1/web"}}, Names: names("web")}},
		"the same":                  {[]Known{web}, []Found{{"web", "u-web", Running}}, Sighting{Same: []Same{{"u-web", 0}}}},
		"the same of no UUID":       {[]Known{web, named}, []Found{{"web", "u-web", Running}, {"web", "", Running}}, Sighting{Same: []Same{{"u-web", 0}, {"named-quay-1/web", 1}}}},
		"renamed":                   {[]Known{web}, []Found{{"shop", "u-web", Running}}, Sighting{Same: []Same{{"u-web", 0}}, Names: names("web", "shop")}},
		"made anew":                 {[]Known{web}, []Found{{"web", "u-2", Running}}, Sighting{Added: []Added{{ID: "u-2", Older: []string{"u-web"}}}, Gone: []string{"u-web"}, Names: names("web")}},
		"another's of that name":    {[]Known{with(web, func(k *Known) { k.Source = "pier-2" })}, []Found{{"web", "u-2", Running}}, Sighting{Added: []Added{{ID: "u-2"}}, Names: names("web")}},
		"taken away":                {[]Known{web}, nil, Sighting{Gone: []string{"u-web"}, Names: names("web")}},
		"back again":                {[]Known{with(web, func(k *Known) { k.State = Gone })}, []Found{{"web", "u-web", Running}}, Sighting{Same: []Same{{"u-web", 0}}, Names: names("web")}},
		"moved, gone there":         {[]Known{with(web, func(k *Known) { k.Source, k.State = "pier-2", Gone })}, []Found{{"web", "u-web", Running}}, Sighting{Same: []Same{{"u-web", 0}}, Names: names("web")}},
		"on two":                    {[]Known{with(web, func(k *Known) { k.Source = "pier-2" })}, []Found{{"web", "u-web", Running}}, Sighting{AlsoHere: []string{"u-web"}}},
		"on two, off there":         {[]Known{with(web, func(k *Known) { k.Source, k.State = "pier-2", Off })}, []Found{{"web", "u-web", Running}}, Sighting{Runs: []Same{{"u-web", 0}}, Names: names("web")}},
		"on two, off on both":       {[]Known{with(web, func(k *Known) { k.Source, k.State = "pier-2", Off })}, []Found{{"web", "u-web", Off}}, Sighting{AlsoHere: []string{"u-web"}}},
		"on two no more":            {[]Known{with(web, func(k *Known) { k.Source, k.AlsoOn = "pier-2", "quay-1" })}, nil, Sighting{NoLongerHere: []string{"u-web"}}},
		"moved to the other":        {[]Known{with(web, func(k *Known) { k.AlsoOn = "pier-2" })}, nil, Sighting{Moved: []string{"u-web"}, Names: names("web")}},
		"on another only":           {[]Known{with(web, func(k *Known) { k.Source = "pier-2" })}, nil, Sighting{}},
		"known by images only":      {[]Known{{ID: "u-web", Name: "web", UUID: "u-web", State: Gone}}, []Found{{"web", "u-web", Running}}, Sighting{Same: []Same{{"u-web", 0}}, Names: names("web")}},
		"by a name of images only":  {[]Known{{ID: "old-web", Name: "web", State: Gone}}, []Found{{"web", "", Running}}, Sighting{Same: []Same{{"old-web", 0}}, Names: names("web")}},
		"a name, and a UUID now":    {[]Known{{ID: "old-web", Name: "web", State: Gone}}, []Found{{"web", "u-web", Running}}, Sighting{Same: []Same{{"old-web", 0}}, Names: names("web")}},
		"a name of another's":       {[]Known{with(named, func(k *Known) { k.Source = "pier-2" })}, []Found{{"web", "", Running}}, Sighting{Added: []Added{{ID: "named-quay-1/web"}}, Names: names("web")}},
		"a name that lives, a UUID": {[]Known{named}, []Found{{"web", "u-web", Running}}, Sighting{Added: []Added{{ID: "u-web", Older: []string{"named-quay-1/web"}}}, Gone: []string{"named-quay-1/web"}, Names: names("web")}},
		"the second of two":         {[]Known{web}, []Found{{"shop", "u-shop", Running}, {"web", "u-web", Running}}, Sighting{Added: []Added{{ID: "u-shop"}}, Same: []Same{{"u-web", 1}}, Names: names("shop")}},
	} {
		if c.want.Names == nil {
			c.want.Names = map[string]bool{}
		}
		require.Equal(t, c.want, See("quay-1", c.known, c.found), name)
	}
}
