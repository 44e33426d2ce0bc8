package resource

import "strings"

// Cell is text from outside as a cell of a table: what a spreadsheet would take
// for a formula is quoted for it with an apostrophe.
func Cell(text string) string {
	if text != "" && strings.ContainsRune("=+-@\t\r\n|%", rune(text[0])) {
		return "'" + text
	}
	return text
}
