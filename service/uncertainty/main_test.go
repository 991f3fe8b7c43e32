package uncertainty

import (
	"os"
	"testing"

	"rotanex.example/service/testdb"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }
