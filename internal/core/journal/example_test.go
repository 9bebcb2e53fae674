package journal_test

import (
	"context"
	"fmt"
	"time"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/store/memory"
)

// Each entry is decided on the one before, whoever else writes at the same time.
func ExampleJournal_Append() {
	ctx := context.Background()
	now := time.Date(2026, 11, 2, 6, 30, 0, 0, time.UTC)
	attempts := 0
	j := &journal.Journal{Store: &memory.Store{}, Site: "corvane", Environment: "production",
		Now:     func() time.Time { return now },
		Attempt: func() string { attempts++; return fmt.Sprint(attempts) }}

	for _, content := range []string{"summer", "winter"} {
		move := journal.Move{Release: release.ID(digest.Of([]byte(content))), Who: "Ines Marrow",
			Origin: journal.Origin{Source: journal.FromOutput}, Cause: "command"}
		if _, err := j.Append(ctx, journal.Entry{}, journal.Activate(journal.Deploy, move, now)); err != nil {
			fmt.Println(err)
			return
		}
	}
	back, err := j.Append(ctx, journal.Entry{}, j.Return(ctx, journal.Back{Who: "Ines Marrow", Cause: "command"}))
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(back.Label(), back.Kind, "to", back.Reactivates)
	fmt.Println("frozen:", back.Frozen != nil)
	// Output:
	// production:3 rollback to 1
	// frozen: true
}
