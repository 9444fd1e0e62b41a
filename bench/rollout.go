package main

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
)

// rolledOut measures how a change of a plan is rolled out over many accounts, as the benchmark of
// package rollout does, to agents that answer at once. Beside it stand bare statements.
func rolledOut(ctx context.Context, say func(string)) ([]row, error) {
	say("a plan changed under up to 10,000 accounts")
	cmd := exec.CommandContext(ctx, "go", "run", "./internal/store/storetest/with", "go", "test", "-run", "^$",
		"-bench", "PlanChange", "-benchtime", "3x", "./internal/service/rollout")
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	if err != nil {
		return nil, fmt.Errorf("%w: %s", err, out)
	}
	// Each line has a name, the number of rounds, and pairs of a value and a unit.
	type figures map[string]float64
	var names []string
	measured := map[string]figures{}
	for lines := bufio.NewScanner(bytes.NewReader(out)); lines.Scan(); {
		fields := strings.Fields(lines.Text())
		if len(fields) < 4 || !strings.HasPrefix(fields[0], "BenchmarkPlanChange/") {
			continue
		}
		name, _, _ := strings.Cut(strings.TrimPrefix(fields[0], "BenchmarkPlanChange/"), "-")
		f := figures{}
		for n := 2; n+1 < len(fields); n += 2 {
			if f[fields[n+1]], err = strconv.ParseFloat(fields[n], 64); err != nil {
				return nil, err
			}
		}
		names, measured[name] = append(names, name), f
	}
	first := map[string]string{"accounts": "accounts=2500", "reseller": "reseller=500"}
	under := map[string]string{"accounts": "%s accounts of the operator", "reseller": "%s accounts of one reseller"}
	var rows []row
	for _, name := range names {
		kind, count, _ := strings.Cut(name, "=")
		f, smallest := measured[name], measured[first[kind]]
		growth := f["rollout-µs/account"] / smallest["rollout-µs/account"]
		for _, part := range []struct{ what, unit string }{{"the call", "call-µs/account"},
			{"rolled out", "rollout-µs/account"}} {
			ours, bare := f[part.unit], f["bare-"+part.unit]
			rows = append(rows, row{
				fmt.Sprintf("a plan changed under "+under[kind]+", %s, for each", count, part.what),
				fmt.Sprintf("%.0f µs", ours), fmt.Sprintf("%.0f µs", bare), fmt.Sprintf("%.2f", ours/bare), "", true})
		}
		last := &rows[len(rows)-1]
		_, fewest, _ := strings.Cut(first[kind], "=")
		last.target = fmt.Sprintf("at most 1.3 times that of %s accounts; is %.2f", fewest, growth)
		last.met = growth <= 1.3
	}
	if len(rows) == 0 {
		return nil, fmt.Errorf("no figures in: %s", out)
	}
	return rows, nil
}
