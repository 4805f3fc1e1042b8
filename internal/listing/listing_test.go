package listing

import (
	"cmp"
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/problem"
)

type ship struct {
	name string
	tons int
}

var ships = Orders[ship]{
	"name": func(a, b ship) int { return Fold(a.name, b.name) },
	"tons": func(a, b ship) int { return cmp.Compare(a.tons, b.tons) },
}

func byName(a, b ship) int { return strings.Compare(a.name, b.name) }

func fleet() []ship {
	return []ship{{"Wave", 3}, {"anchor", 9}, {"Buoy", 3}, {"crane", 1}}
}

func TestPagesAreOrderedAndCut(t *testing.T) {
	for name, c := range map[string]struct {
		p    Page
		want string
	}{
		"its own order":           {Page{}, "Buoy Wave anchor crane"},
		"by name, as people sort": {Page{Sort: "name"}, "anchor Buoy crane Wave"},
		"turned round":            {Page{Sort: "-name"}, "Wave crane Buoy anchor"},
		"equal ones by own order": {Page{Sort: "tons"}, "crane Buoy Wave anchor"},
		"equal ones keep it":      {Page{Sort: "-tons"}, "anchor Buoy Wave crane"},
		"the first":               {Page{Sort: "name", Limit: 2}, "anchor Buoy"},
		"the next":                {Page{Sort: "name", Limit: 2, Skip: 2}, "crane Wave"},
		"past the end":            {Page{Skip: 9}, ""},
		"some of the last":        {Page{Skip: 3, Limit: 5}, "crane"},
	} {
		t.Run(name, func(t *testing.T) {
			got, err := ships.Of(fleet(), byName, c.p)
			require.NoError(t, err)
			var names []string
			for _, s := range got {
				names = append(names, s.name)
			}
			require.Equal(t, c.want, strings.Join(names, " "))
		})
	}
}

func TestPagesThatCannotBeAreRefusedByName(t *testing.T) {
	for field, p := range map[string]Page{"sort": {Sort: "colour"}, "limit": {Limit: MaxPage + 1}, "skip": {Skip: -1}} {
		_, err := ships.Of(fleet(), byName, p)
		var x *problem.Problem
		require.True(t, errors.As(err, &x), "%s: %v", field, err)
		require.Equal(t, field, x.Errors[0].Field)
	}
	_, err := ships.Of(fleet(), byName, Page{Sort: "--name"})
	require.Error(t, err, "turned round twice")
	_, err = ships.Of(fleet(), byName, Page{Sort: "-"})
	require.Error(t, err, "turned round, but nothing named")
}

func TestEveryWordHasToMatch(t *testing.T) {
	require.True(t, Matches("", "anything"))
	require.True(t, Matches("TICK db", "tick-db", "/harbour"))
	require.True(t, Matches("db harbour", "tick-db", "/harbour"))
	require.False(t, Matches("db pier", "tick-db", "/harbour"))
	require.False(t, Matches("dbharbour", "db", "harbour"), "no word runs over two texts")
}
