package frames_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/core/frames"
)

func TestParse(t *testing.T) {
	for text, want := range map[string]struct {
		count int
		again string
	}{
		"1-96":          {96, "1-96"},
		"1-96x2":        {48, "1-95x2"},
		"1-10,20,30-40": {22, "1-10,20,30-40"},
		" 5 , 3,4 ":     {3, "3-5"},
		"-4--2":         {3, "-4--2"},
		"-2-1":          {4, "-2-1"},
		"7":             {1, "7"},
		"1,5":           {2, "1,5"},
		"1-3,2-9x7":     {4, "1-3,9"},
	} {
		set, err := frames.Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, want.count, set.Len(), text)
		assert.Equal(t, want.again, set.String(), text)
	}
}

func TestParseRefuses(t *testing.T) {
	for text, why := range map[string]string{
		"":              "empty",
		"1-":            `"" is not a frame number`,
		"10-1":          "10 comes after 1",
		"1-10x0":        `"0" is not a step`,
		"5x2":           "a step needs a range",
		"a-b":           `"a" is not a frame number`,
		"1,,2":          "empty",
		"1-9000000":     "more than 2000000 frames",
		"1-99999999999": "is not a frame number",
	} {
		_, err := frames.Parse(text)
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), why, text)
	}
}

func TestSample(t *testing.T) {
	set, err := frames.Parse("1-96")
	require.NoError(t, err)
	assert.Equal(t, frames.Of(17, 49, 81), set.Sample(3))
	assert.Equal(t, "49", set.Sample(1).String())
	assert.Equal(t, set, set.Sample(500))
	assert.Zero(t, set.Sample(0).Len())
	assert.Zero(t, set.Sample(-1).Len())
}

func TestAnySetReadsBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		numbers := rapid.SliceOfN(rapid.IntRange(-50, 200), 1, 60).Draw(t, "numbers")
		taken := rapid.SliceOf(rapid.IntRange(-50, 200)).Draw(t, "taken")
		set := frames.Of(numbers...)
		again, err := frames.Parse(set.String())
		require.NoError(t, err)
		assert.Equal(t, set, again)

		left := set.Minus(frames.Of(taken...))
		for n := range set.All() {
			assert.Equal(t, !frames.Of(taken...).Has(n), left.Has(n))
		}
	})
}

func FuzzParse(f *testing.F) {
	for _, seed := range []string{"1-96x2", "-5--1", "1,2,,", "9-1", "x", "1-5x-1"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		set, err := frames.Parse(text)
		if err != nil || set.Len() > 10_000 {
			return
		}
		again, err := frames.Parse(set.String())
		require.NoError(t, err)
		assert.Equal(t, set, again)
	})
}
