package right

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/phrase"
	"keenlodge/internal/core/site"
)

func TestPhrases(t *testing.T) {
	for text, want := range map[string]Grant{
		"viewer": {Role: Viewer},
		" operator of machines web-*, quay-1/db ":                      {Role: Operator, Machines: []string{"web-*", "quay-1/db"}},
		"viewer of tags tier=gold and not role=web; places north-pier": {Role: Viewer, Tags: "tier=gold and not role=web", Places: []string{"north-pier"}},
		"restorer of policies nightly-*":                               {Role: Restorer, Policies: []string{"nightly-*"}},
		"viewer of tags a=1; tags b=2":                                 {Role: Viewer, Tags: "(a=1) or (b=2)"},
	} {
		got, err := ParseGrant(text)
		require.NoError(t, err, text)
		require.Equal(t, want, got, text)
		again, err := ParseGrant(got.String())
		require.NoError(t, err, got.String())
		require.Equal(t, got, again, "it is written as it is read")
	}
	for text, says := range map[string]string{
		"":                           "no role is called that",
		"admin":                      "no role is called that; known are viewer, operator, restorer, administrator",
		"viewr":                      `did you mean "viewer"?`,
		"viewer web-*":               `"of" is expected`,
		"viewer of":                  `"of" is expected`,
		"viewer of machines":         "what it is narrowed to is missing",
		"viewer of machines a;":      "what it is narrowed to is missing",
		"viewer of machine a":        `did you mean "machines"?`,
		"viewer of machines a,,b":    "neither a name nor a pattern",
		"viewer of machines [":       "neither a name nor a pattern",
		"viewer of tags tier=gold (": "is expected here",
	} {
		_, err := ParseGrant(text)
		require.ErrorContains(t, err, says, text)
		if strings.Contains(says, "expected") && !strings.Contains(text, "tags") {
			require.IsType(t, &phrase.Error{}, err)
		}
	}
}

func FuzzParseGrant(f *testing.F) {
	f.Add("operator of machines web-*, quay-1/db; tags tier=gold; places north-pier; policies nightly-*")
	f.Fuzz(func(t *testing.T, text string) {
		g, err := ParseGrant(text)
		if err != nil {
			return
		}
		again, err := ParseGrant(g.String())
		if err != nil || again.String() != g.String() {
			t.Fatalf("%q is written as %q, which is read as %q (%v)", text, g, again, err)
		}
	})
}

// harbour is a site of two places.
func harbour() World {
	return World{
		Site: site.Site{
			Hypervisors: map[string]site.Hypervisor{"quay-1": {Place: "harbour-office"}, "pier-2": {Place: "north-pier"}, "islet-3": {}},
			Stores:      map[string]site.Store{"quay-shelf": {Place: "harbour-office"}, "north-pier": {Place: "north-pier"}, "plain-shelf": {}},
			Policies: map[string]site.Policy{
				"nightly-guests": {Machines: []string{"*"}, Store: "quay-shelf"},
				"hourly-tickets": {Machines: []string{"tickets-db"}, Store: "north-pier"},
				"weekly-web":     {Tags: "role=web", Store: "plain-shelf"},
				"nothing":        {Machines: []string{"nobody"}, Store: "plain-shelf"},
			},
		},
		Machines: []Machine{
			{"m-tickets", "quay-1", "tickets-db", map[string]string{"tier": "gold"}}, {"m-time", "quay-1", "timetable", map[string]string{"role": "web"}},
			{"m-crew", "pier-2", "crew-rota", map[string]string{"role": "web"}}, {"m-light", "islet-3", "lighthouse", nil},
		},
	}
}

func reach(t *testing.T, phrases ...string) Within {
	var grants []Grant
	for _, text := range phrases {
		g, err := ParseGrant(text)
		require.NoError(t, err)
		grants = append(grants, g)
	}
	return Reach(grants, harbour())
}

func names(in map[string]bool) string {
	var out []string
	for name, yes := range in {
		if yes {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return strings.Join(out, " ")
}

func TestReach(t *testing.T) {
	require.Equal(t, Everything, reach(t, "viewer of machines web-*", "viewer"), "one that is not narrowed is good for all")

	one := reach(t, "operator of machines tickets-db")
	require.Equal(t, "m-tickets", names(one.Machines))
	require.Equal(t, "hourly-tickets", names(one.Policies), "it covers nothing else")
	require.Equal(t, "hourly-tickets nightly-guests", names(one.SeenPolicies), "those that cover it among others")
	require.Equal(t, "north-pier quay-shelf", names(one.SeenStores))
	require.Equal(t, "quay-1", names(one.SeenSources))
	require.Empty(t, names(one.Stores)+names(one.Sources)+names(one.Named), "neither is its own")
	require.True(t, one.Image("m-tickets", "nightly-guests"))
	require.False(t, one.Image("m-time", "hourly-tickets"), "an image from when the policy covered another")

	policy := reach(t, "operator of policies nightly-*")
	require.Equal(t, "nightly-guests", names(policy.Policies))
	require.Empty(t, names(policy.Machines))
	require.Equal(t, "m-crew m-light m-tickets m-time", names(policy.SeenMachines))
	require.True(t, policy.Image("m-gone", "nightly-guests"))
	require.False(t, policy.Image("m-tickets", "hourly-tickets"))

	place := reach(t, "administrator of places north-pier", "viewer of tags role=web")
	require.Equal(t, "m-crew m-time", names(place.Machines))
	require.Equal(t, "north-pier", names(place.Stores))
	require.Equal(t, "pier-2", names(place.Sources))
	require.Equal(t, "weekly-web", names(place.Policies), "both of its machines are within, by one grant or another")

	none := reach(t, "viewer of places nowhere")
	require.Empty(t, names(none.SeenMachines)+names(none.SeenPolicies)+names(none.SeenStores)+names(none.SeenSources))
	require.Empty(t, names(Reach(nil, harbour()).SeenMachines), "no grant, no reach")
	ms, ps := Members(none.Machines), Members(none.Named)
	require.True(t, ms != nil && ps != nil && len(ms)+len(ps) == 0, "nothing is not all")
	require.ElementsMatch(t, []string{"m-crew", "m-time"}, Members(place.Machines))
}

// One more grant never takes anything away, and what may be changed may be seen.
func TestGrantsAddUp(t *testing.T) {
	w, rng := harbour(), rand.New(rand.NewPCG(15, 1))
	pick := func(of ...string) []string {
		if rng.IntN(2) == 0 {
			return nil
		}
		return of[:1+rng.IntN(len(of))]
	}
	grant := func() Grant {
		g := Grant{Role: Viewer, Machines: pick("tickets-db", "time*", "quay-1/*"), Places: pick("north-pier", "harbour-*"), Policies: pick("weekly-web", "*-guests")}
		if rng.IntN(3) == 0 {
			g.Tags = "role=web"
		}
		if !g.Narrowed() {
			g.Machines = []string{"nobody"}
		}
		return g
	}
	sets := func(in Within) []map[string]bool {
		return []map[string]bool{in.Machines, in.Policies, in.Stores, in.Sources, in.Named, in.SeenMachines, in.SeenPolicies, in.SeenStores, in.SeenSources}
	}
	for range 2000 {
		few := []Grant{grant()}
		more := append(few, grant())
		a, b := sets(Reach(few, w)), sets(Reach(more, w))
		for i := range a {
			for name := range a[i] {
				require.True(t, b[i][name], "%v reach %s, and %v do not", few, name, more)
			}
		}
		for whole, seen := range map[int]int{0: 5, 1: 6, 2: 7, 3: 8, 4: 6} {
			for name := range b[whole] {
				require.True(t, !b[whole][name] || b[seen][name], "%v: %s", more, name)
			}
		}
	}
}

// The administrator may everything, nobody else may what only he should, and the words for it name the roles.
func TestTable(t *testing.T) {
	seen := map[Operation]bool{}
	for _, e := range Table {
		require.False(t, seen[e.Operation], "%s is there twice", e.Operation)
		seen[e.Operation] = true
		require.Contains(t, e.Roles, Administrator, e.Operation)
		require.Equal(t, e.Of == "", e.Says == "", e.Operation)
		if e.Of != "" {
			_, ok := Of(e.Of)
			require.True(t, ok, e.Of)
		}
		if !e.Whole && e.Operation != "list-tokens" {
			require.Len(t, e.Roles, len(Roles), "%s only looks", e.Operation)
		}
	}
	held := func(role Role) []Operation { return May([]Grant{{Role: role}}) }
	require.Len(t, held(Administrator), len(Table))
	require.NotContains(t, held(Viewer), Operation("run-policy"))
	require.Contains(t, held(Operator), Operation("restore-image"))
	require.NotContains(t, held(Operator), ReplaceMachine)
	require.Contains(t, held(Restorer), Operation("restore-image"))
	require.NotContains(t, held(Restorer), Operation("run-policy"))
	require.NotContains(t, May([]Grant{{Role: Administrator, Machines: []string{"*"}}}), Operation("apply-site"), "narrowed, even to all there is, is not the lodge")
	require.Empty(t, May(nil))

	require.Equal(t, "run-policy needs one of the roles operator, administrator; this token has: viewer", Refusal([]Grant{{Role: Viewer}}, "run-policy"))
	require.Equal(t, "sweep-store needs the role administrator; this token has: no role", Refusal(nil, "sweep-store"))
	require.Equal(t, "apply-site is about the lodge as a whole, and needs a role that is not narrowed; this token has: administrator of machines web-*",
		Refusal([]Grant{{Role: Administrator, Machines: []string{"web-*"}}}, "apply-site"))
	require.Empty(t, Refusal([]Grant{{Role: Viewer}, {Role: Operator, Policies: []string{"nightly-*"}}}, "run-policy"))
	require.NotEmpty(t, Refusal([]Grant{{Role: Administrator}}, "no-such-operation"), "what is not in the table nobody may")
}

func ExampleParseGrant() {
	g, err := ParseGrant("operator of tags tier=gold; places north-pier")
	fmt.Println(g.Role, g.Narrowed(), g, err)
	// Output: operator true operator of tags tier=gold; places north-pier <nil>
}
