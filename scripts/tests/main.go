// Command tests shows what go test does, and how the time of scripts/test was spent.
//
//	go test -json ./... | tests show -times FILE  the result of each package, and what failing tests print
//	tests budget -times FILE -phases FILE -limit 10m each phase and the ten slowest tests, against the limit
//
// The file of times has a line for each test: seconds, result, package and name, with tabs between
// them. The file of phases has one for each phase: seconds, and its name.
package main

import (
	"bufio"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"
)

func main() {
	if err := run(os.Args[1:], os.Stdin, os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(args []string, in io.Reader, out io.Writer) error {
	if len(args) == 0 {
		return errors.New("usage: tests show|budget")
	}
	flags := flag.NewFlagSet(args[0], flag.ContinueOnError)
	times := flags.String("times", "", "the `FILE` of times: show adds to it, budget reads it")
	phases := flags.String("phases", "", "the `FILE` of phases")
	limit := flags.Duration("limit", 10*time.Minute, "what all of it may take")
	if err := flags.Parse(args[1:]); err != nil {
		return err
	}

	switch args[0] {
	case "show":
		return show(in, out, *times)
	case "budget":
		return printBudget(out, *times, *phases, *limit)
	}
	return fmt.Errorf("tests %s is unknown: show, budget", args[0])
}

// show reads what go test -json prints, up to its end. The error says that
// something failed, or that nothing ran.
func show(in io.Reader, out io.Writer, times string) error {
	log := newLog(out)
	lines := bufio.NewReader(in)
	for {
		line, err := lines.ReadBytes('\n')
		if len(line) > 0 {
			log.line(line)
		}
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
	}

	if err := appendTimes(times, log.results); err != nil {
		return err
	}
	if len(log.failed) > 0 {
		return fmt.Errorf("failed: %s", strings.Join(log.failed, ", "))
	}
	if len(log.results) == 0 {
		return errors.New("no test ran")
	}
	return nil
}

func appendTimes(name string, results []result) error {
	if name == "" {
		return nil
	}
	file, err := os.OpenFile(name, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	for _, one := range results {
		//nolint:errcheck // Close tells
		fmt.Fprintf(file, "%.2f\t%s\t%s\t%s\n", one.seconds, one.action, one.pkg, one.test)
	}
	return file.Close()
}

// phase is one part of scripts/test.
type phase struct {
	seconds float64
	name    string
}

// printBudget writes how the time was spent, and what the tests came to.
//
//nolint:errcheck // nobody to tell
func printBudget(out io.Writer, times, phases string, limit time.Duration) error {
	results, err := readTimes(times)
	if err != nil {
		return err
	}
	parts, err := readPhases(phases)
	if err != nil {
		return err
	}

	var total float64
	fmt.Fprintln(out, "time by phase:")
	for _, one := range parts {
		total += one.seconds
		fmt.Fprintf(out, "%8s  %s\n", clock(one.seconds), one.name)
	}

	slices.SortStableFunc(results, func(a, b result) int { return int(100 * (b.seconds - a.seconds)) })
	fmt.Fprintln(out, "the ten slowest tests:")
	for _, one := range results[:min(10, len(results))] {
		fmt.Fprintf(out, "%8s  %s %s\n", clock(one.seconds), one.pkg, one.test)
	}

	share := total / limit.Seconds()
	fmt.Fprintf(out, "took %s of %s (%.0f %%)\n", clock(total), clock(limit.Seconds()), 100*share)
	switch {
	case share > 1:
		fmt.Fprintln(out, "WARNING: over the limit: make tests faster, or move what is slow to scripts/long")
	case share > 0.8:
		fmt.Fprintln(out, "WARNING: more than 80 % of the limit is used")
	}

	counts := map[string]int{}
	for _, one := range results {
		counts[one.action]++
	}
	fmt.Fprintf(out, "%d passed, %d failed, %d skipped\n", counts["pass"], counts["fail"], counts["skip"])
	return nil
}

// clock writes seconds as minutes and seconds: 3m07, or 9.4 s.
func clock(seconds float64) string {
	if seconds < 60 {
		return fmt.Sprintf("%.1f s", seconds)
	}
	whole := int(seconds + 0.5)
	return fmt.Sprintf("%dm%02d", whole/60, whole%60)
}

func readTimes(name string) (results []result, err error) {
	err = readLines(name, 4, func(seconds float64, rest []string) {
		results = append(results, result{seconds: seconds, action: rest[0], pkg: rest[1], test: rest[2]})
	})
	return results, err
}

func readPhases(name string) (phases []phase, err error) {
	err = readLines(name, 2, func(seconds float64, rest []string) {
		phases = append(phases, phase{seconds, rest[0]})
	})
	return phases, err
}

// readLines reads lines of a number and further fields, with tabs between them.
func readLines(name string, fields int, each func(seconds float64, rest []string)) error {
	text, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	for line := range strings.Lines(string(text)) {
		parts := strings.Split(strings.TrimRight(line, "\n"), "\t")
		seconds, err := strconv.ParseFloat(parts[0], 64)
		if err != nil || len(parts) != fields {
			return fmt.Errorf("%s: not %d fields: %q", name, fields, line)
		}
		each(seconds, parts[1:])
	}
	return nil
}
