package usecase_test

import (
	"fmt"

	"victualler/internal/service/usecase"
)

// A list is read page by page: each page names the last row of the one before, not a position, so
// that rows which come and go meanwhile make none be shown twice or left out.
func ExampleCursor() {
	next := usecase.Cursor("harbour.example", 42)
	var domain string
	var id int64
	fmt.Println(usecase.ReadCursor(next, &domain, &id), domain, id)
	fmt.Println(usecase.ReadCursor("page 2", &domain, &id))
	// Output:
	// <nil> harbour.example 42
	// that is not a cursor of this list; take “next” from the page before
}

// Events keep what was before and after; people read the fields that differ, in their units.
func ExampleActor_ChangedFields() {
	before := `{"plan": "skiff", "limits": {"disk": 524288000, "domains": 1}, "features": {"dns": false}}`
	after := `{"plan": "skiff", "limits": {"disk": null, "domains": 3}, "features": {"dns": true}}`
	for _, f := range usecase.System().ChangedFields([]byte(before), []byte(after)) {
		fmt.Println(f.Title+":", f.Before, "→", f.After)
	}
	// Output:
	// DNS: off → on
	// disk space: 500M → unlimited
	// domains: 1 → 3
}
