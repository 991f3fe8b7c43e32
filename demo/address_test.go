package demo

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAnAddressIsFree(t *testing.T) {
	first, err := address(0)
	require.NoError(t, err)
	assert.Regexp(t, `^127\.0\.0\.1:\d+$`, first)
}
