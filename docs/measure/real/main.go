// Command real measures the program against the usual tools on real kernels, RAM disks and file
// systems, which it fetches from Debian, and prints a table of ratios:
//
//	go run ./docs/measure/real [-runs 5] [-dir FOLDER] [-only WORD]
//
// Commands are run in turn, so that both meet the same machine; medians count. It needs a Debian
// system with apt-get, dpkg-deb, zip, unzip, tar, xz, bzip2, zstd, 7zz, mksquashfs and unsquashfs.
package main

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"
)

// row is one line of the table: what is measured, against what, and what is aimed at.
type row struct {
	name      string
	ours      []string
	reference string // a shell command; "" for none
	wall, cpu float64
	seconds   float64 // aimed at without a reference; of CPU where cpuOnly
	cpuOnly   bool
	memory    int // MiB; 0 for no aim
	// bytes that are hashed, inflated and in the package, for the machine's limit.
	hashed, inflated, size int64
	status                 []int // that are right; 0 and 1 where none are given
}

// cost is what a run took.
type cost struct {
	wall, cpu time.Duration
	memory    int64 // KiB
}

func main() {
	runs := flag.Int("runs", 5, "runs of each command")
	dir := flag.String("dir", filepath.Join(os.TempDir(), "fitcheck-measure"), "folder for what is fetched and made; it is kept")
	only := flag.String("only", "", "measure rows whose name holds this word alone")
	once := flag.Bool("transfer", false, "send a megabyte by TFTP, and nothing else: what a row measures")
	flag.Parse()
	if *once {
		transfer()
		return
	}
	m := &maker{dir: *dir}
	program := filepath.Join(*dir, "fitcheck")
	must(os.MkdirAll(*dir, 0o755))
	build := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", program, "./cmd/fitcheck")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	build.Stderr = os.Stderr
	must(build.Run())
	rows := m.rows(program)
	h, i := m.speeds()
	fmt.Printf("%d cores; SHA-256 %.0f MB/s and inflating %.0f MB/s on one of them\n\n", runtime.NumCPU(), h/1e6, i/1e6)
	fmt.Println("| work | ours, s | CPU s | MiB | against, s | CPU s | wall ratio | aim | CPU ratio | aim | of the limit | holds |")
	fmt.Println("|---|---|---|---|---|---|---|---|---|---|---|---|")
	short := 0
	for _, r := range rows {
		if *only != "" && !strings.Contains(r.name, *only) {
			continue
		}
		if !r.print(*runs, h, i) {
			short++
		}
	}
	if *only == "" {
		fmt.Printf("\nThe JSON of 1 000 devices × 50 packages: %.1f MB (aim 30).\n", m.sizeOfJSON(program))
	}
	info, err := os.Stat(program)
	must(err)
	fmt.Printf("\nThe program, stripped: %.1f MB (aim 22).\n", float64(info.Size())/1e6)
	fmt.Printf("%d rows fall short.\n", short)
}

// print measures a row and writes its line; false where it falls short.
func (r row) print(runs int, h, i float64) bool {
	var ours, theirs []cost
	for range runs {
		ours = append(ours, run(r.status, r.ours...))
		if r.reference != "" {
			theirs = append(theirs, run([]int{0}, "sh", "-c", r.reference))
		}
	}
	o, t := median(ours), median(theirs)
	ok := r.memory == 0 || o.memory <= int64(r.memory)<<10
	aim := func(v float64) string {
		if v == 0 {
			return ""
		}
		return fmt.Sprintf("%.2f", v)
	}
	wall, cpu, limit := "", "", ""
	switch {
	case r.reference != "":
		w, c := ratio(o.wall, t.wall), ratio(o.cpu, t.cpu)
		wall, cpu = fmt.Sprintf("%.2f", w), fmt.Sprintf("%.2f", c)
		near := false
		if r.size > 0 {
			least := max(float64(r.size)/h, (float64(r.hashed)/h+float64(r.inflated)/i)/float64(runtime.NumCPU()))
			limit = fmt.Sprintf("%.2f", o.wall.Seconds()/least)
			near = o.wall.Seconds() <= 1.15*least
		}
		ok = ok && (r.wall == 0 || w <= r.wall || near) && (r.cpu == 0 || c <= r.cpu)
	case r.cpuOnly:
		ok = ok && o.cpu.Seconds() <= r.seconds
	default:
		ok = ok && o.wall.Seconds() <= r.seconds
	}
	aimed := aim(r.wall)
	if r.seconds > 0 {
		aimed = fmt.Sprintf("%g s", r.seconds)
		if r.cpuOnly {
			aimed += " CPU"
		}
	}
	mem := fmt.Sprint(o.memory >> 10)
	if r.memory > 0 {
		mem += fmt.Sprintf(" of %d", r.memory)
	}
	theirWall, theirCPU := "", ""
	if r.reference != "" {
		theirWall, theirCPU = fmt.Sprintf("%.2f", t.wall.Seconds()), fmt.Sprintf("%.2f", t.cpu.Seconds())
	}
	fmt.Printf("| %s | %.3f | %.3f | %s | %s | %s | %s | %s | %s | %s | %s | %s |\n", r.name, o.wall.Seconds(), o.cpu.Seconds(), mem, theirWall, theirCPU, wall, aimed, cpu, aim(r.cpu), limit, map[bool]string{true: "yes", false: "**no**"}[ok])
	return ok
}

func ratio(a, b time.Duration) float64 { return a.Seconds() / b.Seconds() }

// median is that of each figure; of memory the most.
func median(all []cost) cost {
	if len(all) == 0 {
		return cost{}
	}
	var wall, cpu []time.Duration
	var out cost
	for _, c := range all {
		wall, cpu = append(wall, c.wall), append(cpu, c.cpu)
		out.memory = max(out.memory, c.memory)
	}
	slices.Sort(wall)
	slices.Sort(cpu)
	out.wall, out.cpu = wall[len(wall)/2], cpu[len(cpu)/2]
	return out
}

// run runs a command; one that ends otherwise than it may ends the measurement.
func run(status []int, args ...string) cost {
	c := exec.Command(args[0], args[1:]...)
	var errout bytes.Buffer
	c.Stderr = &errout
	begin := time.Now()
	err := c.Run()
	wall := time.Since(begin)
	if status == nil {
		status = []int{0, 1, 3}
	}
	if c.ProcessState == nil || !slices.Contains(status, c.ProcessState.ExitCode()) {
		must(fmt.Errorf("%s: %w: %s", strings.Join(args, " "), err, errout.String()))
	}
	return cost{wall, c.ProcessState.UserTime() + c.ProcessState.SystemTime(), c.ProcessState.SysUsage().(*syscall.Rusage).Maxrss}
}

func must(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
