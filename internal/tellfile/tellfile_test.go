package tellfile

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/demo"
	"plumbbob/internal/calendar"
	"plumbbob/internal/core/telling"
	"plumbbob/internal/yamltext"
)

func none(string) *calendar.Calendar { return nil }

const head = `plumb-telling: 1
zone: Atlantic/Faroe
people:
  ann: {ways: [{channel: mail, to: a@b.example}]}
`

func TestRead(t *testing.T) {
	p, err := Parse("f", []byte(head+`  tom:
    ways: [{channel: mail, to: t@b.example}, {channel: text, to: "+298 1"}]
    quiet: [{from: "22:00", until: "06:30", days: [sat, sun], but: critical}]
teams: {all: [ann, tom]}
rotas:
  duty: {shifts: [{from: mon 08:00, until: fri 17:00, who: tom}], instead: [{from: 2026-12-24 08:00, until: 2026-12-26 08:00, who: all}], zone: UTC}
rules:
  - {name: pier, match: {sites: [pier], severity: critical}, tell: [{who: [duty]}, {after: 15m, who: [all]}]}
`), none)
	require.NoError(t, err)
	require.Equal(t, "ann", p.People["ann"].Title)
	require.Equal(t, telling.Quiet{From: 22 * 60, Until: 6*60 + 30, Days: []time.Weekday{time.Saturday, time.Sunday}, But: telling.Critical}, p.People["tom"].Quiet[0])
	require.Equal(t, telling.Shift{From: telling.WeekTime{Day: time.Monday, At: 8 * 60}, Until: telling.WeekTime{Day: time.Friday, At: 17 * 60}, Who: "tom"}, p.Rotas["duty"].Shifts[0])
	require.Equal(t, time.Date(2026, 12, 24, 8, 0, 0, 0, time.UTC), p.Rotas["duty"].Instead[0].From)
	require.Equal(t, 15*time.Minute, p.Rules[0].Steps[1].After)
	_, err = Parse("demo", []byte(demo.Telling), none)
	require.NoError(t, err)
	require.True(t, json.Valid(Schema))
}

func TestComplaints(t *testing.T) {
	for text, want := range map[string]string{
		"":                                   "f: is empty: it begins with plumb-telling: 1",
		"plumb-telling: 2\n":                 "f:1: it must begin with plumb-telling: 1",
		"plumb-telling: 1\nzone: Atlantis\n": `f:2: zone: "Atlantis" is not a time zone`,
		head + "colour: red\n":               "f:5: there is no key colour here",
		head + "rules: yes\n":                "f:5: this is not what belongs here",
		head + "teams: [\n":                  "f:",
		head + "teams: {all: [tom]}\n":       `f:5: team all: "tom" is not among the people`,
		head + "teams: {ann: [ann]}\n":       "f:5: ann is the name of more than one of a person, a team and a rota",
		head + "teams: {A!: [ann]}\n":        `f:5: "A!" cannot be a name`,
		head + "teams: {all: []}\n":          "f:5: team all: nobody is in it",
		head + "  tom: {title: Tom}\n":       "f:5: tom: there is no way to tell them",
		head + "  tom:\n    ways: [{channel: mail}]\n    quiet:\n      - {from: \"25:00\", until: \"06:00\"}\n":  `f:8: "25:00" is no time of day`,
		head + "  tom: {ways: [{channel: m}], quiet: [{from: \"20:00\", until: \"06:00\", days: [caturday]}]}\n": `"caturday" is no day`,
		head + "  tom: {ways: [{channel: m}], quiet: [{from: \"20:00\", until: \"06:00\", but: dire}]}\n":        `"dire" is no severity`,
		head + "rotas: {duty: {}}\n":                                                                                    "f:5: rota duty: nobody is on duty",
		head + "rotas: {duty: {calendar: duty}}\n":                                                                      `there is no calendar "duty"`,
		head + "rotas: {duty: {shifts: [{from: monday, until: tue 08:00, who: ann}]}}\n":                                `"monday" is no time of a week`,
		head + "rotas: {duty: {shifts: [{from: mon 08:00, until: tue 08:00, who: eve}]}}\n":                             `"eve" is neither a person nor a team`,
		head + "rotas: {duty: {calendar: x, instead: [{from: 2026-12-24 08:00, until: 2026-12-24 07:00, who: ann}]}}\n": "it ends before it begins",
		head + "rules:\n  - {name: a, tell: [{who: [ann]}]}\n  - {name: a, tell: [{who: [ann]}]}\n":                     "f:7: there are two rules a",
		head + "heartbeat: {every: 1s, by: [{channel: x}]}\n":                                                           "f:5: heartbeat every: \"1s\" is no time from 10s to 24h",
		head + "heartbeat: {every: 1m}\n":                                                                               "say by which channels",
		head + "report: {at: \"07:30\"}\n":                                                                              "report: say who gets it",
		head + "report: {at: noon, who: [ann]}\n":                                                                       `"noon" is no time of day`,
		head + "rules: [{name: a}]\n":                                                                                   "f:5: rule a: say with tell who is told",
		head + "rules: [{name: a, tell: [{who: []}]}]\n":                                                                "rule a: say who is told",
		head + "rules: [{name: a, tell: [{who: [eve]}]}]\n":                                                             `"eve" is neither a person nor a team`,
		head + "rules: [{name: a, tell: [{who: [ann], after: soon}]}]\n":                                                `rule a after: "soon" is no time`,
		head + strings.Repeat("#", MaxSize):                                                                             "is larger than 1024 KiB",
	} {
		_, err := Parse("f", []byte(text), none)
		var faults *yamltext.Faults
		require.ErrorAs(t, err, &faults, text)
		require.ErrorContains(t, err, want)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(demo.Telling))
	f.Add([]byte(head + "a: &a [*a]\n"))
	f.Fuzz(func(_ *testing.T, text []byte) { _, _ = Parse("f", text, none) })
}
