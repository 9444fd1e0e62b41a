package api

import "time"

// Overview is what somebody sees first: what needs them, and how things go.
type Overview struct {
	Attention []Attention `json:"attention" doc:"What needs somebody now, the most urgent first; empty when all is well."`
	Figures   []Figure    `json:"figures" doc:"Figures over time."`
}

// Attention is one kind of thing that needs somebody.
type Attention struct {
	Kind  string   `json:"kind" enum:"server-unreachable,server-program-down,server-full,server-limits-missing,certificates-failing,certificates-ending,operations-stuck,operations-failed,accounts-drifting,accounts-full,accounts-warned,sending-stopped,domains-waiting"`
	Title string   `json:"title" doc:"What it is, with its number, in words."`
	Cases int64    `json:"cases" doc:"How many there are."`
	Worst []string `json:"worst" doc:"Some of them, by name."`
}

// Figure is a figure over time.
type Figure struct {
	Key    string  `json:"key" doc:"What it is, such as accounts or disk.skua."`
	Title  string  `json:"title" doc:"What people call it."`
	Unit   string  `json:"unit" enum:"count,bytes,percent"`
	Now    float64 `json:"now" doc:"The newest value."`
	Step   string  `json:"step" enum:"hour,day" doc:"The time from one point to the next."`
	Points []Point `json:"points" doc:"Oldest first; a time that nothing is known of is left out."`
}

// Point is one value of a figure.
type Point struct {
	At    time.Time `json:"at"`
	Value float64   `json:"value"`
}
