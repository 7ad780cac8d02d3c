package password

import (
	_ "embed" // for the list
	"fmt"
	"strings"
	"sync"
	"unicode"
)

// MinLength is the least number of characters in a password that people choose.
const MinLength = 10

// common are passwords, and beginnings of passwords, that are tried first.
//
//go:embed common.txt
var common string

var commonOnes = sync.OnceValue(func() map[string]bool {
	all := map[string]bool{}
	for l := range strings.Lines(common) {
		all[strings.TrimSpace(l)] = true
	}
	return all
})

// Choose says why somebody should not have a password: it is short, one of those that
// are tried first, or the name of the account or of the service with a little around it.
func Choose(password, account string) error {
	if n := len([]rune(password)); n < MinLength {
		return fmt.Errorf("has %d characters, and needs at least %d", n, MinLength)
	}
	bare := letters(password)
	switch {
	case commonOnes()[strings.ToLower(password)], commonOnes()[bare]:
		return fmt.Errorf("is one of those that are tried first: take another, such as four words that do not belong together")
	case len(different(password)) < 5:
		return fmt.Errorf("is made of %d different characters: take another", len(different(password)))
	case sequence(password):
		return fmt.Errorf("goes through the alphabet, the digits or the keyboard in order: take another")
	}
	for _, name := range []string{account, "plumb", "plumbbob", "plumbd"} {
		if name != "" && (bare == letters(name) || bare == letters(name)+letters(name)) {
			return fmt.Errorf("is a name that everybody knows, with a little around it: take another")
		}
	}
	return nil
}

// letters are those of a text alone, in lower case, with the digits that stand for some
// read as these.
func letters(s string) string {
	s = strings.NewReplacer("0", "o", "3", "e", "@", "a", "$", "s", "5", "s").Replace(strings.ToLower(strings.TrimRightFunc(s, func(r rune) bool { return !unicode.IsLetter(r) })))
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) {
			return r
		}
		return -1
	}, s)
}

func different(s string) map[rune]bool {
	seen := map[rune]bool{}
	for _, r := range s {
		seen[unicode.ToLower(r)] = true
	}
	return seen
}

// rows are what fingers, and alphabets, go along.
var rows = []string{"abcdefghijklmnopqrstuvwxyz", "01234567890123456789", "qwertyuiopasdfghjklzxcvbnm", "qwertzuiopasdfghjklyxcvbnm", "azertyuiopqsdfghjklmwxcvbn", "1qaz2wsx3edc4rfv5tgb6yhn7ujm8ik9ol0p"}

// sequence says whether all of a password lies along a row, forwards or backwards.
func sequence(password string) bool {
	p := strings.ToLower(password)
	for _, row := range rows {
		if strings.Contains(row, p) || strings.Contains(backwards(row), p) {
			return true
		}
	}
	return false
}

func backwards(s string) string {
	r := []rune(s)
	for i, j := 0, len(r)-1; i < j; i, j = i+1, j-1 {
		r[i], r[j] = r[j], r[i]
	}
	return string(r)
}
