package homes

import "fmt"

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
func LimitMet(code Code, n int64, limit string) Explanation {
	times, ended, refused := fmt.Sprintf("%d times", n), "Processes were ended", "Processes could not be started"
	if n == 1 {
		times, ended, refused = "once", "A process was ended", "A process could not be started"
	}
	switch code {
	case MemoryMet:
		return Explanation{
			fmt.Sprintf("%s %s in the last day: all together needed more memory than the %s of the plan.", ended, times,
				limit), "Visitors who were waiting for it saw an error (502) or half a page.",
			"Look for what needs so much, such as an import or a plugin, or ask for a plan with more memory."}
	case ProcessesMet:
		return Explanation{
			fmt.Sprintf("%s %s in the last day: the plan has %s at the same time.", refused, times, limit),
			"Pages that need one fail or wait.",
			"Look for what starts so many or does not end, or ask for a plan with more processes."}
	}
	return Explanation{
		fmt.Sprintf("Everything has waited for processor time for %s in the last day: the plan has %s of a processor.",
			duration(n), limit), "Pages are slow while it is so.",
		"Look for what computes so long, switch on caching, or ask for a plan with more processor time."}
}

// duration says seconds in words.
func duration(seconds int64) string {
	if seconds < 120 {
		return fmt.Sprintf("%d seconds", seconds)
	}
	return fmt.Sprintf("%d minutes", seconds/60)
}
