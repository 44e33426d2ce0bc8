package cli

import (
	"fmt"
	"io"

	"patientheron/core/answer"
)

// printAnswered prints what many measurements answer together, a question each. Cautions are
// printed with the measurements.
func printAnswered(w io.Writer, answers []answer.Conclusion) {
	if len(answers) > 0 {
		fmt.Fprintln(w, "\nAnswers:")
	}
	for _, a := range answers {
		fmt.Fprintf(w, "  %s\n", indented(a.Title, "  "))
		for _, line := range a.Lines() {
			fmt.Fprintf(w, "    %s\n", indented(line, "      "))
		}
	}
}
