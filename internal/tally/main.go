// Command tally reads `go test -json`, prints what failed and a line per package, and closes with the
// counts of all tests, the console's unit tests among them.
package main

import (
	"bufio"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"strings"
)

type event struct {
	Action, Package, Test, Output string
	Elapsed                       float64
}

func main() {
	vitest := flag.String("vitest", "", "report of the console's unit tests")
	flag.Parse()
	passed, failed, skipped := 0, 0, 0
	output := map[string]*strings.Builder{}
	in := bufio.NewScanner(os.Stdin)
	in.Buffer(nil, 64<<20)
	broken := false
	for in.Scan() {
		var e event
		if json.Unmarshal(in.Bytes(), &e) != nil {
			fmt.Println(in.Text()) // what the go command itself has to say
			continue
		}
		key := e.Package + " " + e.Test
		switch e.Action {
		case "output", "build-output":
			if output[key] == nil {
				output[key] = &strings.Builder{}
			}
			output[key].WriteString(e.Output)
		case "build-fail":
			broken = true
		case "pass", "fail", "skip":
			if e.Test == "" {
				fmt.Printf("%-4s  %-40s %6.1f s\n", e.Action, e.Package, e.Elapsed)
				if e.Action == "fail" {
					broken = true
					fmt.Print(text(output[key]))
				}
				continue
			}
			switch e.Action {
			case "pass":
				passed++
			case "skip":
				skipped++
			case "fail":
				failed++
				fmt.Print(text(output[key]))
			}
			delete(output, key)
		}
	}
	if *vitest != "" {
		var report struct{ NumPassedTests, NumFailedTests, NumPendingTests int }
		raw, err := os.ReadFile(*vitest)
		if err == nil {
			err = json.Unmarshal(raw, &report)
		}
		if err != nil {
			fmt.Println("the report of the console's unit tests cannot be read:", err)
			broken = true
		}
		passed, failed, skipped = passed+report.NumPassedTests, failed+report.NumFailedTests, skipped+report.NumPendingTests
	}
	fmt.Printf("%d passed, %d failed, %d skipped\n", passed, failed, skipped)
	if failed > 0 || broken || passed == 0 {
		os.Exit(1)
	}
}

func text(b *strings.Builder) string {
	if b == nil {
		return ""
	}
	return b.String()
}
