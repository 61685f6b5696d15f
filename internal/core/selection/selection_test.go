package selection

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/phrase"
)

func TestExpressions(t *testing.T) {
	db := map[string]string{"tier": "gold", "role": "database", "ha": "active"}
	web := map[string]string{"tier": "silver", "role": "web"}
	for text, want := range map[string][2]bool{
		"tier=gold":                    {true, false},
		"tier!=gold":                   {false, true},
		"ha!=standby":                  {true, true},
		"ha":                           {true, false},
		"not ha":                       {false, true},
		"role=web or role=data*":       {true, true},
		"role=web and tier=gold or ha": {true, false},
		"role=web and (tier=gold or tier=silver)":     {false, true},
		"not (role=web or tier=bronze) and tier=g??d": {true, false},
		"":    {false, false},
		" \t": {false, false},
		strings.Repeat("(", 50) + "ha" + strings.Repeat(")", 50): {true, false},
		strings.Repeat("not ", 50) + "ha":                        {true, false},
		" (tier=gold)or\tha ":                                    {true, false},
	} {
		e, err := Parse(text)
		require.NoError(t, err, text)
		require.Equal(t, want, [2]bool{e.Matches(db), e.Matches(web)}, text)
		require.Equal(t, strings.TrimSpace(text), strings.TrimSpace(e.String()))
	}
	for text, want := range map[string]string{
		"tier=gold role=web": `tag phrase "tier=gold role=web": at "role=web" (character 11): "and", "or" or the end is expected here`,
		"tier=gold adn x":    `did you mean "and"?`,
		"(tier=gold":         `at "" (character 11): ")" is expected here`,
		"tier=gold and":      `at "" (character 14): a tag is expected here, such as tier=gold`,
		"tier=gold and or":   `at "or" (character 15): a tag is expected here`,
		"and":                `at "and" (character 1): a tag is expected here`,
		"not )":              `at ")" (character 5): a tag is expected here`,
		"(tier=gold) )":      `at ")" (character 13): "and", "or" or the end is expected here`,
		strings.Repeat("(", 51) + "ha" + strings.Repeat(")", 51): "this nests too deep",
		strings.Repeat("not ", 51) + "ha":                        "this nests too deep",
		"=gold":                                                  `a tag is written as key=value`,
		"tier=[gold":                                             `a tag is written as key=value`,
	} {
		_, err := Parse(text)
		require.ErrorContains(t, err, want)
	}
}

func FuzzParse(f *testing.F) {
	f.Add("not (role=web or tier=bronze) and tier!=g??d")
	f.Fuzz(func(t *testing.T, text string) {
		e, err := Parse(text)
		if err != nil {
			var bad *phrase.Error
			require.ErrorAs(t, err, &bad)
			return
		}
		e.Matches(map[string]string{"tier": "gold"})
	})
}
