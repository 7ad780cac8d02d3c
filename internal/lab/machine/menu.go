package machine

import (
	"fmt"
	"slices"
	"strings"
)

// What moves the cursor and sets colours (ECMA-48).
const (
	clearAll = "\x1b[0m\x1b[2J\x1b[H"
	inverse  = "\x1b[7m"
	ordinary = "\x1b[0m"
)

func at(row, column int) string { return fmt.Sprintf("\x1b[%d;%dH", row, column) }

const width = 60

// open enters set-up, or the boot menu.
func (m *Machine) open(what string) string {
	m.row, m.dirty, m.draft = 0, false, slices.Clone(m.Order)
	if m.at = inMenu; what == Setup {
		m.at = inSetup
	}
	return m.draw()
}

func (m *Machine) draw() string {
	title, help := "Start once from", "Arrows choose   Enter starts   Esc goes on as usual"
	if m.at == inSetup {
		title, help = "Order of starting", "Arrows choose   + up   - down   F10 saves and starts anew   Esc leaves"
	}
	var b strings.Builder
	b.WriteString(clearAll + inverse + fmt.Sprintf(" %-*s ", width, "Set-up of "+m.Name) + ordinary)
	b.WriteString(at(3, 2) + title)
	for i, from := range m.list() {
		b.WriteString(m.line(i, from))
	}
	if m.dirty {
		b.WriteString(at(9, 2) + "Not saved yet")
	}
	b.WriteString(at(11, 2) + help + at(5+m.row, 4))
	return b.String()
}

func (m *Machine) list() []string {
	if m.at == inMenu {
		return append(slices.Clone(m.Order), Setup)
	}
	return m.draft
}

func (m *Machine) line(i int, from string) string {
	name := sources[from]
	if name == "" {
		name = "Set-up"
	}
	text := fmt.Sprintf(" %d  %-20s ", i+1, name)
	if i == m.row {
		text = inverse + text + ordinary
	}
	return at(5+i, 4) + text
}

// move goes up and down in a menu.
func (m *Machine) move(key string) (moved bool) {
	n := len(m.list())
	switch key {
	case "up":
		m.row = (m.row + n - 1) % n
	case "down":
		m.row = (m.row + 1) % n
	default:
		return false
	}
	return true
}

func (m *Machine) setUp(key string) string {
	swap := func(to int) {
		if to >= 0 && to < len(m.draft) {
			m.draft[m.row], m.draft[to] = m.draft[to], m.draft[m.row]
			m.row, m.dirty = to, true
		}
	}
	switch {
	case m.move(key):
	case key == "+":
		swap(m.row - 1)
	case key == "-":
		swap(m.row + 1)
	case key == "f10":
		m.Order, m.anew = m.draft, true
		return clearAll + "Saved. Starting anew.\n"
	case key == "escape":
		m.anew = true
		return clearAll + "Left as it was. Starting anew.\n"
	default:
		return ""
	}
	return m.draw()
}

func (m *Machine) choose(key string) string {
	list := m.list()
	switch {
	case m.move(key):
	case key == "enter" && list[m.row] == Setup:
		return m.open(Setup)
	case key == "enter":
		return clearAll + m.start(first(m.Order, list[m.row]))
	case key == "escape":
		return clearAll + m.start(m.Order)
	default:
		return ""
	}
	return m.draw()
}
