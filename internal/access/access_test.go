package access

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/right"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

var (
	viewer = []right.Grant{{Role: right.Viewer}}
	ruler  = []right.Grant{{Role: right.Administrator}}
)

func open(t *testing.T) (*Access, *records.Records) {
	rec := recordstest.Open(t)
	return New(rec, slog.New(slog.DiscardHandler)), rec
}

// A code opens nothing by itself; it becomes a token once, however it is written, and in one process only.
func TestCodes(t *testing.T) {
	ctx := t.Context()
	a, rec := open(t)
	other := New(rec, a.log)
	made, code, err := a.NewCode(ctx, "first", "rescue", viewer, time.Hour)
	require.NoError(t, err)
	require.Len(t, code, codeLength)
	_, err = a.Check(ctx, code, "", All)
	require.ErrorIs(t, err, fault.ErrNotFound)
	_, err = a.CheckCode(ctx, code[:11]+"?", "")
	require.ErrorIs(t, err, fault.ErrNotFound)
	asTyped := strings.ToUpper(code[:4]) + "-" + code[4:8] + " " + code[8:]
	c, err := a.CheckCode(ctx, asTyped, "")
	require.NoError(t, err)
	there, err := other.CheckCode(ctx, code, "")
	require.NoError(t, err)
	secret, err := a.Redeem(ctx, c, asTyped)
	require.NoError(t, err)
	_, err = other.Redeem(ctx, there, code)
	require.ErrorIs(t, err, fault.ErrNotFound, "somebody else was first")
	got, err := other.Check(ctx, secret, "", All)
	require.NoError(t, err)
	require.Equal(t, made.ID, got.Token)
	require.Equal(t, viewer, got.Grants)
	require.InDelta(t, redeemedTime, got.Left, float64(time.Minute))
	require.Eventually(t, func() bool { _, err := other.CheckCode(ctx, code, ""); return IsUnknown(err) }, time.Second, time.Millisecond)
}

// A token is good for its scope, in every process, until it is revoked, renewed or expired; a process that knew it as good refuses it within
// a second.
func TestTokens(t *testing.T) {
	ctx := t.Context()
	a, rec := open(t)
	other := New(rec, a.log)
	made, secret, err := a.NewToken(ctx, "first", "night-watch", viewer, TokenTime)
	require.NoError(t, err)
	require.True(t, made.Live)
	require.WithinDuration(t, time.Now().Add(TokenTime), made.Expires, time.Minute)
	require.Nil(t, made.Used)
	refused := func(in *Access, secret string, scope Scope) {
		t.Helper()
		require.Eventually(t, func() bool { _, err := in.Check(ctx, secret, "192.0.2.7", scope); return IsUnknown(err) }, time.Second, time.Millisecond)
	}
	good := func(in *Access, secret string) {
		t.Helper()
		c, err := in.Check(ctx, secret, "192.0.2.7", All)
		require.NoError(t, err)
		require.Equal(t, Caller{Token: made.ID, Name: "night-watch", Grants: viewer, Left: c.Left}, c)
	}
	good(a, secret)
	good(other, secret)
	used, err := a.Token(ctx, "night-watch")
	require.NoError(t, err)
	require.WithinDuration(t, time.Now(), *used.Used, time.Minute)
	require.Equal(t, "192.0.2.7", used.UsedFrom)
	for _, wrong := range []string{"", "nonsense", secret + "x", made.ID} {
		_, err := a.Check(ctx, wrong, "192.0.2.7", All)
		require.ErrorIs(t, err, fault.ErrNotFound)
	}
	refused(a, secret, Calendar)

	_, next, err := a.RenewToken(ctx, made.ID, time.Hour)
	require.NoError(t, err)
	good(a, next)
	good(other, next)
	refused(other, secret, All)
	refused(a, secret, All)

	_, err = a.RevokeToken(ctx, "night-watch")
	require.NoError(t, err)
	_, err = a.Check(ctx, next, "192.0.2.7", All)
	require.ErrorIs(t, err, fault.ErrNotFound, "at once where it was revoked")
	refused(other, next, All)
	_, err = a.RevokeToken(ctx, "night-watch")
	require.ErrorIs(t, err, fault.ErrConflict)

	feed, err := a.NewCalendarToken(ctx, "first")
	require.NoError(t, err)
	again, err := a.NewCalendarToken(ctx, "first")
	require.NoError(t, err)
	_, err = a.Check(ctx, again, "", Calendar)
	require.NoError(t, err)
	refused(a, feed, Calendar)
	refused(a, again, All)

	require.NoError(t, rec.AddToken(ctx, records.Token{ID: "brief", Name: "brief", Scope: string(All), Grants: viewer}, "brief secret", 300*time.Millisecond))
	_, err = a.Check(ctx, "brief secret", "", All)
	require.NoError(t, err)
	refused(a, "brief secret", All)
}

func TestTokensThatCantBe(t *testing.T) {
	ctx := t.Context()
	a, _ := open(t)
	_, _, err := a.NewToken(ctx, "", "first", ruler, TokenTime)
	require.NoError(t, err)
	for _, c := range []struct {
		name   string
		grants []right.Grant
		good   time.Duration
		says   string
	}{
		{"First One", viewer, TokenTime, "can't be a token's name"},
		{"", viewer, TokenTime, "can't be a token's name"},
		{"second", nil, TokenTime, "needs a role"},
		{"second", []right.Grant{{Role: "captain"}}, TokenTime, `no role is called "captain"`},
		{"second", []right.Grant{{Role: right.Viewer, Machines: []string{"["}}}, TokenTime, "neither a name nor a pattern"},
		{"second", viewer, time.Second, "is not between them"},
		{"second", viewer, LongestToken + 1, "is not between them"},
		{"first", viewer, TokenTime, "keenlodge token renew first"},
	} {
		_, _, err := a.NewToken(ctx, "", c.name, c.grants, c.good)
		require.ErrorContains(t, err, c.says)
	}
	all, err := a.Tokens(ctx)
	require.NoError(t, err)
	require.Len(t, all, 1, "what is refused makes nothing")
}

// Somebody always can make tokens: of those who can, the last one stays, even if two are revoked at once.
func TestTheLastAdministratorStays(t *testing.T) {
	ctx := t.Context()
	a, rec := open(t)
	for name, grants := range map[string][]right.Grant{"first": ruler, "second": ruler, "night-watch": viewer, "pier": {{Role: right.Administrator, Places: []string{"north-pier"}}}} {
		_, _, err := a.NewToken(ctx, "", name, grants, TokenTime)
		require.NoError(t, err)
	}
	require.NoError(t, rec.AddToken(ctx, records.Token{ID: "old", Name: "old", Scope: string(All), Grants: ruler}, "over", -time.Hour))
	errs := make([]error, 2)
	var both sync.WaitGroup
	for i, name := range []string{"first", "second"} {
		both.Go(func() { _, errs[i] = a.RevokeToken(ctx, name) })
	}
	both.Wait()
	require.True(t, (errs[0] == nil) != (errs[1] == nil), "%v", errs)
	for _, err := range errs {
		if err != nil {
			require.ErrorContains(t, err, "is the last token that can do everything")
			require.ErrorIs(t, err, fault.ErrConflict)
		}
	}
	_, err := a.RevokeToken(ctx, "night-watch")
	require.NoError(t, err)
	_, err = a.RevokeToken(ctx, "nigth-watch")
	require.ErrorContains(t, err, `did you mean "night-watch"?`)
}

// A session opens what its token does, no longer than that, and ends by itself or with others.
func TestSessions(t *testing.T) {
	ctx := t.Context()
	a, _ := open(t)
	_, first, err := a.NewToken(ctx, "", "first", ruler, TokenTime)
	require.NoError(t, err)
	_, watch, err := a.NewToken(ctx, "first", "night-watch", viewer, TokenTime)
	require.NoError(t, err)
	signIn := func(token string) (Caller, string) {
		c, secret, err := a.SignIn(ctx, token, "192.0.2.7", "a browser")
		require.NoError(t, err)
		got, err := a.Check(ctx, secret, "192.0.2.7", All)
		require.NoError(t, err)
		require.Equal(t, c.Session, got.Session)
		require.LessOrEqual(t, got.Left, SessionTime)
		return got, secret
	}
	ended := func(secret string) {
		t.Helper()
		require.Eventually(t, func() bool { _, err := a.Check(ctx, secret, "", All); return IsUnknown(err) }, time.Second, time.Millisecond)
	}
	mine, mineSecret := signIn(first)
	theirs, theirsSecret := signIn(watch)
	_, more := signIn(watch)
	_, _, err = a.SignIn(ctx, mineSecret, "", "")
	require.True(t, IsUnknown(err), "a session begets none")
	list, err := a.Sessions(ctx, theirs, false)
	require.NoError(t, err)
	require.Len(t, list, 2)
	all, err := a.Sessions(ctx, mine, true)
	require.NoError(t, err)
	require.Len(t, all, 3)
	require.ErrorIs(t, a.EndSession(ctx, theirs, false, mine.Session), fault.ErrNotFound, "another token's")
	require.NoError(t, a.EndSession(ctx, mine, true, theirs.Session))
	ended(theirsSecret)
	require.ErrorIs(t, a.EndSession(ctx, mine, true, theirs.Session), fault.ErrNotFound)
	_, err = a.RevokeToken(ctx, "night-watch")
	require.NoError(t, err)
	ended(more)
	require.NoError(t, a.EndSession(ctx, mine, false, mine.Session))
	ended(mineSecret)
	_, one := signIn(first)
	n, err := a.EndSessions(ctx, mine, false)
	require.NoError(t, err)
	require.EqualValues(t, 1, n)
	ended(one)
	require.NoError(t, a.Upkeep(ctx))
}

// Ten thousand wrong keys are slowed down, and keep nobody out.
func TestStrangers(t *testing.T) {
	ctx := t.Context()
	a, _ := open(t)
	_, secret, err := a.NewToken(ctx, "", "first", ruler, TokenTime)
	require.NoError(t, err)
	var all sync.WaitGroup
	turned := make(chan bool, 10_000)
	begun := time.Now()
	for i := range cap(turned) {
		all.Go(func() {
			_, err := a.Check(ctx, fmt.Sprint("guess ", i), "192.0.2.66", All)
			if !IsUnknown(err) {
				t.Errorf("a guess was let in: %v", err)
			}
			tooMany, _ := a.Strangers.Wrong(ctx, "192.0.2.66", time.Now())
			turned <- tooMany
		})
	}
	for range 20 {
		at := time.Now()
		_, err := a.Check(ctx, secret, "192.0.2.66", All)
		require.NoError(t, err)
		require.Less(t, time.Since(at), time.Second)
	}
	all.Wait()
	away := 0
	for range cap(turned) {
		if <-turned {
			away++
		}
	}
	require.Greater(t, away, 9000, "those beyond what may wait are sent away")
	require.Greater(t, time.Since(begun), longestWait)
	tries := a.Strangers.Take(time.Now())
	require.Len(t, tries, 1)
	require.Equal(t, 10_000, tries[0].Count)
	require.Empty(t, a.Strangers.Take(time.Now()), "what is told is told once")

	gone, cancel := context.WithCancel(ctx)
	cancel()
	at := time.Now()
	for range 40 {
		a.Strangers.Wrong(gone, "192.0.2.67", time.Now())
	}
	require.Less(t, time.Since(at), longestWait, "whoever has gone is not waited for")
}

// People are told of a token that ends within two weeks, if it is in use, and was to last for longer.
func TestTokensThatEndSoon(t *testing.T) {
	now, day := time.Now(), 24*time.Hour
	in := func(days int) time.Time { return now.Add(time.Duration(days) * day) }
	yesterday, longAgo := in(-1), in(-20)
	for _, c := range []struct {
		t    records.Token
		want bool
	}{
		{records.Token{Live: true, Made: in(-80), Expires: in(10), Used: &yesterday}, true},
		{records.Token{Live: true, Made: in(-80), Expires: in(15), Used: &yesterday}, false},
		{records.Token{Live: false, Made: in(-80), Expires: in(10), Used: &yesterday}, false},
		{records.Token{Live: true, Made: in(-80), Expires: in(10), Used: &longAgo}, false},
		{records.Token{Live: true, Made: in(-80), Expires: in(10)}, false},
		{records.Token{Live: true, Made: in(-1), Expires: in(10), Used: &yesterday}, false},
	} {
		require.Equal(t, c.want, endsSoon(c.t, now), "%+v", c.t)
	}
	a, _ := open(t)
	for name, good := range map[string]time.Duration{"later": TokenTime, "sooner": 60 * day} {
		_, secret, err := a.NewToken(t.Context(), "", name, viewer, good)
		require.NoError(t, err)
		_, err = a.Check(t.Context(), secret, "", All)
		require.NoError(t, err)
	}
	none, err := a.Ending(t.Context(), now)
	require.NoError(t, err)
	require.Empty(t, none)
}

// While the database does not answer, those who wait for the same look fail together, and nobody is taken for unknown.
func TestADatabaseThatIsAway(t *testing.T) {
	ctx := t.Context()
	a, rec := open(t)
	_, secret, err := a.NewToken(ctx, "", "first", ruler, TokenTime)
	require.NoError(t, err)
	_, err = rec.Pool().Exec(ctx, "alter table tokens rename to elsewhere")
	require.NoError(t, err)
	var all sync.WaitGroup
	for range 50 {
		all.Go(func() {
			if _, err := a.Check(ctx, secret, "", All); err == nil || IsUnknown(err) {
				t.Errorf("it could not be looked up: %v", err)
			}
		})
	}
	all.Wait()
	_, err = rec.Pool().Exec(ctx, "alter table elsewhere rename to tokens")
	require.NoError(t, err)
	require.Eventually(t, func() bool { _, err := a.Check(ctx, secret, "", All); return err == nil }, 2*time.Second, 10*time.Millisecond)
}
