package api

// Preview is what a change would do. Nothing has been changed.
type Preview struct {
	Summary string   `json:"summary" doc:"The change in one sentence."`
	Notes   []string `json:"notes" doc:"What was put right or chosen, what is worth knowing."`
	Records []Record `json:"records" doc:"What would be written down as changed."`
	Effects []Effect `json:"effects" doc:"What it means for each account that it touches."`
	Steps   []string `json:"steps" doc:"The steps on servers for people to read, in their order; those of several accounts once."`
	Changes []Change `json:"changes" doc:"What would be made, changed or removed on servers."`
}

// Record is one thing that would be written down as changed.
type Record struct {
	Action  string       `json:"action" doc:"Such as plan.change."`
	Title   string       `json:"title" doc:"What people call that, such as Change plan."`
	Subject string       `json:"subject"`
	Fields  []Difference `json:"fields"`
}

// Difference is one value before and after.
type Difference struct {
	Name   string `json:"name" doc:"For programs, with dots for nesting."`
	Title  string `json:"title" doc:"For people, in their language."`
	Before string `json:"before" doc:"Empty where there was none."`
	After  string `json:"after" doc:"Empty where there is none."`
}

// Effect is what a change means for one account.
type Effect struct {
	Account   string   `json:"account" doc:"Sign-in name."`
	Name      string   `json:"name" doc:"Main domain."`
	Gains     []string `json:"gains" doc:"What it gets more of."`
	Losses    []string `json:"losses" doc:"What it gets less of. Nothing is ever deleted."`
	Over      []string `json:"over" doc:"What it uses more of than it would be allowed, and by how much: it cannot grow there."`
	Changes   []string `json:"changes,omitempty" doc:"What is served differently."`
	Unchanged string   `json:"unchanged,omitempty" doc:"Why nothing changes for it, if so."`
}

// Change is one change on a server.
type Change struct {
	Part    string `json:"part"`
	Subject string `json:"subject"`
	Detail  string `json:"detail"`
	Diff    string `json:"diff,omitempty" doc:"Unified diff from what is there to what would be."`
}
