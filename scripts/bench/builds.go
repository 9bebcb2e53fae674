package main

import (
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// measureBuilds measures what the engine costs: over the steps alone, for content that
// is known, and while nothing happens.
func measureBuilds(b *bench) {
	measureOverhead(b)
	measureIsolation(b)
	for _, n := range []int{100, 10_000, 100_000} {
		measureKnown(b, n)
	}
	measureIdle(b)
}

// repository makes a repository of n pages with a build, and returns its
// folder. step is a shell command that leaves out/.
func (b *bench) repository(n int, step string) string {
	folder := b.unused()
	for i := range n {
		path := filepath.Join(folder, "pages", fmt.Sprint(i%100), fmt.Sprintf("page-%d.html", i))
		if i < 100 {
			b.check(os.MkdirAll(filepath.Dir(path), 0o755))
		}
		b.check(os.WriteFile(path, fmt.Appendf(nil, "<h1>Page %d of the timetable</h1>\n%s", i,
			strings.Repeat("Velley 08.10, Oskra 09.25, Tamsel 10.40\n", 20)), 0o644))
	}

	b.check(os.WriteFile(filepath.Join(folder, "orilla.yaml"),
		[]byte("site: bench\nbuild:\n  run: ['"+step+
			"']\n  output: out\nrules: site.rules\nenvironments: {production: {follows: main}}\n"), 0o644))
	b.check(os.WriteFile(filepath.Join(folder, "site.rules"), []byte("redirect /old -> /\n"), 0o644))
	b.git(folder, "init", "-q", "-b", "main")
	b.commit(folder, "First")
	return folder
}

// check ends the program: a benchmark that went wrong has measured nothing.
func (b *bench) check(err error) {
	if err != nil {
		log.Fatal(err)
	}
}

// git runs Git as somebody of the ferry line, and without its housekeeping,
// which would fall into a measurement.
func (b *bench) git(folder string, args ...string) {
	command := exec.Command("git",
		append([]string{"-c", "user.name=Ines Marrow", "-c", "user.email=ines@corvane.example", "-c",
			"gc.auto=0"}, args...)...)
	command.Dir = folder
	b.must(command)
}

// commit commits all that a folder has.
func (b *bench) commit(folder, message string) {
	b.git(folder, "add", "-A")
	b.git(folder, "commit", "-q", "-m", message)
}

// in runs the program in a folder and returns how long that took.
func (b *bench) in(folder, home string, args ...string) time.Duration {
	return b.orilla(home, append([]string{"-C", folder}, args...)...)
}

// measureOverhead compares a warm build, from the command to the release in the store,
// with its steps run by hand in the same folder. The step reads all 10,000
// files of the repository and leaves 200 pages.
func measureOverhead(b *bench) {
	step := "mkdir out && cp -r pages/1 pages/2 out/ && find pages -type f -print0 | sort -z | xargs -0 " +
		"cat | gzip -9 > out/all.gz && echo x > out/index.html"
	folder, home := b.repository(10_000, step), b.unused()
	b.in(folder, home, "build")
	tree := filepath.Join(home, "cache", "work", "bench", "trusted", "1", "tree")
	var over []time.Duration
	var ratios []float64
	for i := range b.pairs {
		b.check(os.WriteFile(filepath.Join(folder, "pages", "1", "page-1.html"),
			fmt.Appendf(nil, "changed %d", i), 0o644))
		b.commit(folder, "A page")
		whole := b.in(folder, home, "build")
		b.check(os.RemoveAll(filepath.Join(tree, "out")))
		hand := exec.Command("sh", "-c", step)
		hand.Dir = tree
		alone := b.must(hand)
		b.check(os.RemoveAll(filepath.Join(tree, "out")))
		over, ratios = append(over, whole-alone), append(ratios, float64(whole)/float64(alone))
	}

	slices.Sort(over)
	slices.Sort(ratios)
	fmt.Printf("\na warm build over its steps by hand, 10,000 files: %d ms more (%d to %d), ratio %.2f "+
		"(%.2f to %.2f); limit 200 ms or 1.10, whichever is more\n",
		over[len(over)/2].Milliseconds(), over[0].Milliseconds(), over[len(over)-1].Milliseconds(),
		ratios[len(ratios)/2], ratios[0], ratios[len(ratios)-1])
}

// measureIsolation compares builds of a branch that nobody trusts, isolated and not,
// in turn. Both check everything out anew.
func measureIsolation(b *bench) {
	if _, err := exec.LookPath("bwrap"); err != nil {
		fmt.Println("isolation is not measured: bubblewrap is not here")
		return
	}
	step := "mkdir out && cp -r pages/. out/ && echo x > out/index.html"
	folders, homes := map[string]string{}, map[string]string{}
	for _, isolation := range []string{"required", "off"} {
		folder := b.repository(200, step)
		file := filepath.Join(folder, "orilla.yaml")
		text, err := os.ReadFile(file)
		b.check(err)
		b.check(os.WriteFile(file,
			[]byte(strings.Replace(string(text), "build:\n", "build:\n  isolation: "+isolation+"\n", 1)),
			0o644))

		b.commit(folder, "How it is held")
		folders[isolation], homes[isolation] = folder, b.unused()
		b.in(folder, homes[isolation], "deploy")
		b.git(folder, "checkout", "-q", "-b", "winter")
	}

	var more []time.Duration
	for i := range b.pairs + 1 {
		took := map[string]time.Duration{}
		for isolation, folder := range folders {
			b.check(os.WriteFile(filepath.Join(folder, "pages", "1", "page-1.html"),
				fmt.Appendf(nil, "changed %d", i), 0o644))
			b.commit(folder, "A page")
			took[isolation] = b.in(folder, homes[isolation], "deploy")
		}

		if i > 0 { // the first one finds out what the machine can do
			more = append(more, took["required"]-took["off"])
		}
	}

	slices.Sort(more)
	fmt.Printf("an isolated build over one that is not: %d ms more (%d to %d); limit 150 ms\n",
		more[len(more)/2].Milliseconds(), more[0].Milliseconds(), more[len(more)-1].Milliseconds())
}

// measureKnown compares a deploy of content that was built before, and of other rules
// alone, with the build of that content. The step copies every page through
// sed, as a small generator would.
func measureKnown(b *bench, n int) {
	step := "mkdir out && find pages -name \"*.html\" -print0 | sort -z | xargs -0 awk \"FNR == 1 { " +
		"close(to); to = FILENAME; gsub(/[^0-9a-z]/, FS, to); " +
		"gsub(FS, sprintf(\\\"-\\\"), to); to = sprintf(\\\"out/%s.html\\\", to); print \\\"<!doctype " +
		"html>\\\" > to } { gsub(/timetable/, \\\"sailings\\\"); print > to " +
		"}\" && echo x > out/index.html"

	folder, home := b.repository(n, step), b.unused()
	page := filepath.Join(folder, "pages", "1", "page-1.html")
	b.in(folder, home, "deploy")
	var built, reverted, ruled []time.Duration
	for i := range min(b.pairs, max(3, 300_000/n)) {
		b.check(os.WriteFile(page, fmt.Appendf(nil, "changed %d\n", i), 0o644))
		b.commit(folder, "A page")
		built = append(built, b.in(folder, home, "deploy"))
		b.git(folder, "revert", "--no-edit", "HEAD")
		reverted = append(reverted, b.in(folder, home, "deploy"))
		b.check(os.WriteFile(filepath.Join(folder, "site.rules"), fmt.Appendf(nil, "redirect /old-%d -> /\n",
			i), 0o644))
		b.commit(folder, "Rules")
		ruled = append(ruled, b.in(folder, home, "deploy"))
	}

	middle := func(times []time.Duration) time.Duration {
		slices.Sort(times)
		return times[len(times)/2]
	}
	whole := middle(built)
	share := func(times []time.Duration) string {
		return fmt.Sprintf("%d ms, %.1f %%", middle(times).
			Milliseconds(), 100*float64(middle(times))/float64(whole))
	}
	fmt.Printf("%d pages: built and live in %.2f s; a revert live in %s of that; "+
		"rules alone %s (limit 5 %%)\n", n, whole.Seconds(), share(reverted), share(ruled))
}

// measureIdle counts the processor time that a follower takes while nothing happens.
func measureIdle(b *bench) {
	folder, home := b.repository(100,
		"mkdir out && cp -r pages/. out/ && echo x > out/index.html"), b.unused()
	command := exec.Command(b.program, "-C", folder, "follow")
	command.Env = append(os.Environ(), "ORILLA_HOME="+home)
	b.check(command.Start())
	defer command.Wait()                       //nolint:errcheck // interrupted
	defer command.Process.Signal(os.Interrupt) //nolint:errcheck // it may have ended
	time.Sleep(5 * time.Second)
	before := processorTime(command.Process.Pid)
	const minutes = 2
	time.Sleep(minutes * time.Minute)
	fmt.Printf("an idle follower: %d ms of processor time in %d minutes, its children's included\n",
		(processorTime(command.Process.Pid) - before).Milliseconds(), minutes)
}

// processorTime reads how long a process and those that it has waited for have
// run (proc(5)); 0 where there is no /proc.
func processorTime(pid int) time.Duration {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(data), ") ")
	fields := strings.Fields(rest)
	ticks := 0
	for _, field := range fields[11:15] { // utime, stime, cutime, cstime
		n, _ := strconv.Atoi(field)
		ticks += n
	}
	return time.Duration(ticks) * 10 * time.Millisecond
}
