package expr

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Error says what is wrong with an expression and where.
type Error struct {
	// Text is the expression, Offset the position in it, in bytes.
	Text   string
	Offset int
	Reason string
	// Row is the row whose values the expression does not take, -1 where it is wrong for all.
	Row int
}

// Error writes the expression with a mark under the character.
func (e *Error) Error() string {
	return fmt.Sprintf("%s, at character %d\n    %s\n    %s^", e.Reason, utf8.RuneCountInString(e.Text[:e.Offset])+1, e.Text,
		strings.Repeat(" ", utf8.RuneCountInString(e.Text[:e.Offset])))
}

type tokenKind uint8

const (
	endToken tokenKind = iota
	nameToken
	quotedToken // a name in double quotes
	numberToken
	textToken // a literal in single quotes
	signToken // an operator or a bracket
)

type token struct {
	kind tokenKind
	text string // of names and literals without quotes; of words that are no quoted names in upper case in word
	word string
	at   int
}

// signs are the operators and brackets, longer ones first.
var signs = []string{"<>", "<=", ">=", "||", "=", "<", ">", "+", "-", "*", "/", "(", ")", ",", "."}

// scan cuts an expression into tokens; the last one is the end.
func scan(text string) ([]token, error) {
	var out []token
	for at := 0; at < len(text); {
		c, size := utf8.DecodeRuneInString(text[at:])
		switch {
		case unicode.IsSpace(c):
			at += size
		case c == '\'' || c == '"':
			t, end, err := scanQuoted(text, at)
			if err != nil {
				return nil, err
			}
			out, at = append(out, t), end
		case c >= '0' && c <= '9' || c == '.' && at+1 < len(text) && text[at+1] >= '0' && text[at+1] <= '9':
			end := at + numberLength(text[at:])
			out, at = append(out, token{kind: numberToken, text: text[at:end], at: at}), end
		case c == '_' || unicode.IsLetter(c):
			end := at
			for end < len(text) {
				c, size := utf8.DecodeRuneInString(text[end:])
				if c != '_' && !unicode.IsLetter(c) && !unicode.IsDigit(c) {
					break
				}
				end += size
			}
			out, at = append(out, token{kind: nameToken, text: text[at:end], word: strings.ToUpper(text[at:end]), at: at}), end
		default:
			sign := ""
			for _, s := range signs {
				if sign == "" && strings.HasPrefix(text[at:], s) {
					sign = s
				}
			}
			if sign == "" {
				return nil, &Error{Text: text, Offset: at, Reason: fmt.Sprintf("%q means nothing here", c), Row: -1}
			}
			out, at = append(out, token{kind: signToken, text: sign, word: sign, at: at}), at+len(sign)
		}
	}
	return append(out, token{kind: endToken, at: len(text)}), nil
}

// scanQuoted takes a literal or a name in quotes, in which a quote is doubled.
func scanQuoted(text string, at int) (token, int, error) {
	quote := text[at]
	kind := textToken
	if quote == '"' {
		kind = quotedToken
	}
	var b strings.Builder
	for i := at + 1; i < len(text); i++ {
		if text[i] != quote {
			b.WriteByte(text[i])
			continue
		}
		if i+1 < len(text) && text[i+1] == quote {
			b.WriteByte(quote)
			i++
			continue
		}
		return token{kind: kind, text: b.String(), at: at}, i + 1, nil
	}
	return token{}, 0, &Error{Text: text, Offset: at, Reason: "a quote is not closed", Row: -1}
}

// numberLength returns how many bytes a number takes: digits, a point, an exponent.
func numberLength(text string) int {
	i := 0
	digits := func() {
		for i < len(text) && text[i] >= '0' && text[i] <= '9' {
			i++
		}
	}
	digits()
	if i < len(text) && text[i] == '.' {
		i++
		digits()
	}
	if i < len(text) && text[i]|0x20 == 'e' {
		end := i
		i++
		if i < len(text) && (text[i] == '+' || text[i] == '-') {
			i++
		}
		from := i
		if digits(); i == from {
			i = end
		}
	}
	return i
}
