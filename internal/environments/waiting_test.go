package environments_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/canon"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/store/memory"
)

type frozen struct {
	t     *testing.T
	store *memory.Store
	ids   []release.ID
	noon  time.Time
	at    time.Time
}

func newFrozen(t *testing.T) *frozen {
	t.Helper()
	f := &frozen{t: t, store: &memory.Store{}, noon: time.Now().Add(-time.Hour).UTC().
		Truncate(time.Millisecond)}
	for v := range 3 {
		f.ids = append(f.ids, version(t, f.store, 1, v))
	}
	f.at = f.noon.Add(-5 * time.Minute)
	f.append(journal.Activate(journal.Deploy, journal.Move{Release: f.ids[2]}, f.at))
	f.at = f.noon
	f.append(journal.SetFrozen(&journal.Frozen{Who: "Ines Marrow", When: f.noon, Why: "a holiday"}, "command",
		"Ines Marrow", "", f.noon))
	return f
}

func (f *frozen) append(decide journal.Decide) journal.Entry {
	f.t.Helper()
	j := environments.JournalOf(f.store, "corvane", "production", func() time.Time { return f.at })
	entry, err := j.Append(f.t.Context(), journal.Entry{}, decide)
	require.NoError(f.t, err)
	return entry
}

func (f *frozen) head() journal.Entry {
	head, err := environments.JournalOf(f.store, "corvane", "production", time.Now).Head(f.t.Context(), 0)
	require.NoError(f.t, err)
	return head
}

func (f *frozen) waits(name string, minutes int) {
	id := release.ID(digest.Of([]byte(name)))
	data, err := canon.Marshal(environments.PendingRelease{Format: 1, Environment: "production", Release: id,
		Origin: journal.Origin{Commit: name}, Who: "x",
		When: f.noon.Add(time.Duration(minutes) * time.Minute)})
	require.NoError(f.t, err)
	require.NoError(f.t, f.store.Replace(f.t.Context(), storage.WaitingKey("corvane", "production")+"/"+
		id.String(), data))
	require.NoError(f.t, f.store.Replace(f.t.Context(), storage.ReleaseKey("corvane", id.String()),
		[]byte("{}")))
}

func (f *frozen) waiting() []string {
	list, err := environments.WaitingFor(f.t.Context(), f.store, "corvane", f.head())
	require.NoError(f.t, err)
	names := []string{}
	for _, one := range list {
		names = append(names, one.Commit)
	}
	return names
}

func TestWhatWaitsForAThaw(t *testing.T) {
	t.Parallel()
	f := newFrozen(t)
	f.waits("before what is live", -6)
	f.waits("first", 10)
	f.waits("second", 20)
	require.NoError(t, f.store.Replace(t.Context(), storage.WaitingKey("corvane", "production")+"/damaged",
		[]byte("{")))
	assert.Equal(t, []string{"second", "first"}, f.waiting(), "the newest first")
	later := f.noon.Add(time.Hour)
	f.append(journal.SetFrozen(&journal.Frozen{Who: "Tobias Quill", When: f.noon.Add(30 * time.Minute),
		Until: &later}, "command", "Tobias Quill", "longer", f.noon))
	assert.Equal(t, []string{"second", "first"}, f.waiting(), "a freeze that is lengthened loses nothing")
	f.at = f.noon.Add(15 * time.Minute)
	f.append(journal.Activate(journal.Deploy, journal.Move{Release: f.ids[0], Who: "Tobias Quill",
		DuringFreezeOK: true}, f.at))
	assert.Equal(t, []string{"second"}, f.waiting(),
		"what a person put live meanwhile is newer than the first")
	f.append(journal.Activate(journal.Deploy, journal.Move{Release: release.ID(digest.Of([]byte("second"))),
		Origin: journal.Origin{Commit: "second"}, DuringFreezeOK: true}, f.at))
	assert.Empty(t, f.waiting(), "what is live waits no more")
	f.append(f.back())
	assert.Empty(t, f.waiting(), "nor does what a rollback left behind")
	f.append(journal.SetFrozen(nil, "command", "x", "", f.at))
	f.waits("late", 50)
	assert.Empty(t, f.waiting(), "nothing is frozen")
}

func (f *frozen) back() journal.Decide {
	j := environments.JournalOf(f.store, "corvane", "production", func() time.Time { return f.at })
	return j.Return(f.t.Context(), journal.Back{Who: "Ines Marrow"})
}

func TestAThawPutsLiveWhatWasShown(t *testing.T) {
	t.Parallel()
	operator := func(f *frozen) *environments.Operator {
		s, err := environments.NewOperator(t.Context(), &site.Project{}, f.store, "corvane", "command",
			"thaw")
		require.NoError(t, err)
		t.Cleanup(func() { s.Close(t.Context()) })
		return s
	}
	f := newFrozen(t)
	waits := &environments.PendingRelease{Release: f.ids[0], Origin: journal.Origin{Commit: "waits"}}
	shown := f.head()
	f.append(journal.SetFrozen(&journal.Frozen{Who: "Tobias Quill", When: f.noon}, "command", "Tobias Quill",
		"no, longer", f.noon))
	_, err := operator(f).Thaw(t.Context(), shown, "", waits)
	assert.Equal(t, "moved-on", fault.Code(err), "somebody froze it again while it was looked at")
	entry, err := operator(f).Thaw(t.Context(), f.head(), "it is over", waits)
	require.NoError(t, err)
	assert.Equal(t, []any{journal.Deploy, f.ids[0], "waits", (*journal.Frozen)(nil), environments.ThawCause},
		[]any{entry.Kind, entry.Release, entry.Commit, entry.Frozen, entry.Cause})
	again, err := operator(f).Thaw(t.Context(), shown, "", waits)
	require.NoError(t, err)
	assert.Equal(t, entry.Number, again.Number, "who comes second finds it live")
	lost := &environments.PendingRelease{Release: release.ID(digest.Of([]byte("pruned"))),
		Origin: journal.Origin{Commit: "x"}}
	_, err = operator(f).Thaw(t.Context(), f.head(), "", lost)
	require.ErrorIs(t, err, storage.ErrNotFound)
	assert.Equal(t, entry.Number, f.head().Number, "nothing is thawed for a release that is not there")
	_, err = operator(f).Thaw(t.Context(), f.head(), "", nil)
	require.ErrorIs(t, err, journal.ErrAlready)
}

func TestAPreviewIsRemovedOnlyIfItStillShould(t *testing.T) {
	t.Parallel()
	f := newFrozen(t)
	past, future := time.Now().Add(-time.Minute), time.Now().Add(time.Hour)
	for name, ends := range map[string]*time.Time{"preview.past": &past, "preview.future": &future,
		"preview.forever": nil, "staging": &past} {
		t.Run(name, func(t *testing.T) {
			_, err := environments.JournalOf(f.store, "corvane", name, time.Now).
				Append(t.Context(), journal.Entry{},
					journal.Activate(journal.Deploy, journal.Move{Release: f.ids[0], Expires: ends}, time.Now()))
			require.NoError(t, err)
		})
	}
	s, err := environments.NewOperator(t.Context(), &site.Project{}, f.store, "corvane", "follow", "sweep")
	require.NoError(t, err)
	defer s.Close(t.Context())
	expired := func(head journal.Entry) bool { return head.HasExpired(s.Now()) }
	for name, want := range map[string]bool{"preview.past": true, "preview.future": false,
		"preview.forever": false, "preview.never-made": false} {
		t.Run(name, func(t *testing.T) {
			for tries, first := range []bool{true, false} { // once is enough
				entry, removed, err := s.Remove(t.Context(), name, journal.Ended{Reason: journal.Expired}, "",
					expired)
				require.NoError(t, err, name)
				assert.Equal(t, want && first, removed, "%s %d", name, tries)
				if removed {
					assert.Equal(t, "preview/past:2", entry.Label())
					assert.Equal(t, journal.Expired, entry.Ended.Reason)
				}
			}
		})
	}
	states, err := environments.States(t.Context(), f.store, "corvane", []string{"production", "new"}, nil)
	require.NoError(t, err)
	names := []string{}
	for _, state := range states {
		names = append(names, state.Name)
	}
	assert.Equal(t, []string{"production", "new", "preview.forever", "preview.future", "preview.past",
		"staging"}, names)
	assert.Nil(t, states[1].Head)
}
