package version_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"rotanex.example/core/version"
)

func TestVersionsMayBeOneApart(t *testing.T) {
	for _, fine := range []string{"1.4.0", "1.4.9", "1.3.2", "1.5.0", "", "of the future", "1.4", "1.x.0"} {
		assert.NoError(t, version.Apart(fine, "1.4.1"), fine)
	}
	assert.ErrorContains(t, version.Apart("1.2.9", "1.4.1"), "install the agent of the service's version")
	assert.ErrorContains(t, version.Apart("1.6.0", "1.4.1"), "bring the service up to date")
	assert.Error(t, version.Apart("2.4.1", "1.4.1"))
	assert.Error(t, version.Apart("0.4.1", "1.4.1"))
	assert.NoError(t, version.Apart(version.Ours, version.Ours))
}
