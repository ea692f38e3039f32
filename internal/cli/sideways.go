package cli

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/term"

	"trevak/internal/render"
)

// besideRows is how many lines a table takes besides its rows: header, rule, and the line below.
const besideRows = 3

// sideways shows tables that are wider than the terminal part by part, where a person sits at both ends.
func (a *app) sideways(s render.Screen) render.Screen {
	fd, ok := terminal(a.out)
	if !ok || a.json() || !term.IsTerminal(int(os.Stdin.Fd())) || !s.Styled {
		return s
	}
	s.Sideways = func(rows int, part func(at int) string) bool {
		_, height, err := term.GetSize(fd)
		if err != nil || rows+besideRows >= height {
			return false
		}
		state, err := term.MakeRaw(int(os.Stdin.Fd()))
		if err != nil {
			return false
		}
		defer term.Restore(int(os.Stdin.Fd()), state)
		page(bufio.NewReader(os.Stdin), s.Writer, part)
		return true
	}
	return s
}

// The keys that a table is paged with.
const (
	next = iota
	back
	end
	other
)

// page draws a part, and another in its place for each key, until a key ends it.
func page(keys *bufio.Reader, w io.Writer, part func(at int) string) {
	const hint = "  → next  ← back  q goes on"
	at := 0
	for {
		text := part(at)
		io.WriteString(w, strings.ReplaceAll(text+hint, "\n", "\r\n"))
		lines := strings.Count(text, "\n")
		to := at
		for to == at {
			switch key(keys) {
			case next:
				to = at + 1
			case back:
				to = at - 1
			case end:
				// The part stays, the hint goes.
				fmt.Fprintf(w, "\r\x1b[K%s\r\n", strings.ReplaceAll(text[strings.LastIndexByte(text, '\n')+1:], "\n", "\r\n"))
				return
			}
			if to < 0 || part(to) == "" {
				to = at
			}
		}
		at = to
		fmt.Fprintf(w, "\r\x1b[%dA\x1b[J", lines)
	}
}

// key reads one key; what cannot be read ends it.
func key(keys *bufio.Reader) int {
	c, err := keys.ReadByte()
	if err != nil {
		return end
	}
	switch c {
	case 'q', 'Q', 3, 4: // and Ctrl-C, Ctrl-D
		return end
	case ' ', 'l', '\r', '\n', '\t':
		return next
	case 'h', 'b', 127:
		return back
	case 27:
		if keys.Buffered() == 0 {
			return end
		}
		if c, _ = keys.ReadByte(); c != '[' && c != 'O' {
			return other
		}
		switch c, _ = keys.ReadByte(); c {
		case 'C':
			return next
		case 'D':
			return back
		}
	}
	return other
}
