package homes

import "victualler/internal/hosting/language"

// Sandbox is the part of an account that runs: its limits are met there.
const Sandbox = "sandbox"

// The limits of what runs that an account can meet.
const (
	MemoryMet    Code = "memory-met"    // processes were ended for want of memory
	ProcessesMet Code = "processes-met" // processes could not be made
	CPUMet       Code = "cpu-met"       // everything has waited for processor time
)

// LimitMet puts into words that a limit of what runs was met in the last day: n times, or for
// CPUMet n seconds long. Limit is it in words.
func LimitMet(code Code, n int64, limit language.Text) Explanation {
	say := language.New
	switch code {
	case MemoryMet:
		e := Explanation{
			say("Processes were ended %d times in the last day: all together needed more memory than the %s of the "+
				"plan.", n, limit), say("Visitors who were waiting for it saw an error (502) or half a page."),
			say("Look for what needs so much, such as an import or a plugin, or ask for a plan with more memory.")}
		if n == 1 {
			e.What = say("A process was ended once in the last day: all together needed more memory than the %s of "+
				"the plan.", limit)
		}
		return e
	case ProcessesMet:
		e := Explanation{
			say("Processes could not be started %d times in the last day: the plan has %s at the same time.", n, limit),
			say("Pages that need one fail or wait."),
			say("Look for what starts so many or does not end, or ask for a plan with more processes.")}
		if n == 1 {
			e.What = say("A process could not be started once in the last day: the plan has %s at the same time.",
				limit)
		}
		return e
	}
	return Explanation{
		say("Everything has waited for processor time for %s in the last day: the plan has %s of a processor.",
			duration(n), limit), say("Pages are slow while it is so."),
		say("Look for what computes so long, switch on caching, or ask for a plan with more processor time.")}
}

// duration says seconds in words.
func duration(seconds int64) language.Text {
	if seconds < 120 {
		return language.New("%d seconds", seconds)
	}
	return language.New("%d minutes", seconds/60)
}
