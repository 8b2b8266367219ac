// Command count reads what `go test -json` prints, shows what failed, and closes
// with a line that counts the tests.
package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"os"
)

type event struct {
	Action, Package, Test, Output string
}

func main() {
	passed, failed, skipped := 0, 0, 0
	told := map[string]bool{} // packages with a test that failed
	output := map[string]string{}
	in := bufio.NewScanner(os.Stdin)
	in.Buffer(nil, 16<<20)
	for in.Scan() {
		var e event
		if json.Unmarshal(in.Bytes(), &e) != nil {
			fmt.Println(in.Text()) // of make, npm and the compiler
			continue
		}
		key := e.Package + " " + e.Test
		switch e.Action {
		case "output":
			output[key] += e.Output
		case "build-output":
			fmt.Print(e.Output)
		case "pass", "fail", "skip":
			if e.Action == "fail" {
				fmt.Printf("%s\n%s", key, output[key])
			}
			delete(output, key)
			if e.Test == "" {
				fmt.Printf("%s\t%s\n", e.Action, e.Package)
				if e.Action == "fail" && !told[e.Package] {
					failed++ // it did not build, or ended by itself
				}
				continue
			}
			switch e.Action {
			case "pass":
				passed++
			case "fail":
				failed++
				told[e.Package] = true
			default:
				skipped++
			}
		}
	}
	fmt.Printf("%d passed, %d failed, %d skipped\n", passed, failed, skipped)
	if err := in.Err(); err != nil || failed > 0 || passed == 0 {
		os.Exit(1)
	}
}
