package cli

import (
	"fmt"
	"io"

	"patientheron/core/answer"
)

// printAnswered prints what many measurements answer together, a question each.
func printAnswered(w io.Writer, answers []answer.Conclusion) {
	if len(answers) > 0 {
		fmt.Fprintln(w, "\nAnswers:")
	}
	for _, a := range answers {
		fmt.Fprintf(w, "  %s\n    %s\n", indented(a.Title, "  "), indented(a.Words, "    "))
		for _, s := range a.Sides {
			for _, c := range s.Cautions {
				fmt.Fprintf(w, "    %s\n", indented("Caution: "+c.Words, "    "))
			}
		}
	}
}
