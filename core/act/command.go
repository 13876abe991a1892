package act

import "strings"

// Typed is a command of this program as it is typed to a shell; "" for none.
func Typed(command []string) string {
	if len(command) == 0 {
		return ""
	}
	out := "yare"
	for _, w := range command {
		out += " " + Quoted(w)
	}
	return out
}

// Advised is a remedy as it is told: the sentence, and the command where one helps.
func Advised(remedy string, command []string) string {
	if len(command) == 0 {
		return remedy
	}
	return remedy + ": " + Typed(command)
}

// Quoted is a word as it is typed to a shell: in quotes where that would take it apart.
func Quoted(word string) string {
	if strings.ContainsAny(word, " \t\"'$`\\*?[]{}()<>|&;#~!") || word == "" {
		return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
	}
	return word
}
