package rotanex_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// writes finds the table that a statement writes.
var writes = regexp.MustCompile(`(?i)\b(?:INSERT\s+INTO|UPDATE|DELETE\s+FROM)\s+([a-z_]+)\b`)

// notTables are words that stand behind UPDATE in other meanings.
var notTables = map[string]bool{"set": true, "skip": true, "of": true}

// sources calls do with every Go file of the service that is no test.
func sources(t *testing.T, do func(pkg, path string, file *ast.File)) {
	t.Helper()
	require.NoError(t, filepath.WalkDir("service", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ParseComments)
		if err != nil {
			return err
		}
		do(filepath.ToSlash(filepath.Dir(path)), filepath.ToSlash(path), file)
		return nil
	}))
}

// Each table has one package that writes it: others call its functions.
func TestATableHasOneWriter(t *testing.T) {
	writers := map[string]map[string]bool{}
	add := func(table, pkg string) {
		if writers[table] == nil {
			writers[table] = map[string]bool{}
		}
		writers[table][pkg] = true
	}
	sources(t, func(pkg, _ string, file *ast.File) {
		ast.Inspect(file, func(n ast.Node) bool {
			text, ok := n.(*ast.BasicLit)
			if !ok || text.Kind != token.STRING {
				return true
			}
			statement, err := strconv.Unquote(text.Value)
			require.NoError(t, err)
			for _, found := range writes.FindAllStringSubmatch(statement, -1) {
				if table := strings.ToLower(found[1]); !notTables[table] && found[0][0] <= 'Z' {
					add(table, pkg)
				}
			}
			return true
		})
	})
	require.Contains(t, writers, "frames", "the test reads the statements")
	for table, by := range writers {
		var names []string
		for name := range by {
			names = append(names, name)
		}
		assert.Len(t, names, 1, "%s is written by %v", table, names)
	}
}

// GORM is the one way to the database: pgx by itself is for LISTEN and the migrations of
// package store, and for the databases of tests.
func TestOneWayToTheDatabase(t *testing.T) {
	sources(t, func(pkg, path string, file *ast.File) {
		for _, i := range file.Imports {
			name, _ := strconv.Unquote(i.Path.Value)
			if strings.HasPrefix(name, "github.com/jackc/pgx") {
				assert.Contains(t, []string{"service/store", "service/testdb"}, pkg, "%s imports %s", path, name)
			}
		}
	})
}

// What is said in PostgreSQL's own words stands in records.go of the package that says it,
// beside its records: whoever changes a table looks there.
func TestStatementsStandWithTheRecords(t *testing.T) {
	sources(t, func(pkg, path string, file *ast.File) {
		if pkg == "service/store" || pkg == "service/testdb" || strings.HasPrefix(filepath.Base(path), "records") {
			return
		}
		ast.Inspect(file, func(n ast.Node) bool {
			call, ok := n.(*ast.SelectorExpr)
			if ok && (call.Sel.Name == "Raw" || call.Sel.Name == "Exec") {
				assert.Fail(t, "a statement stands outside of records.go", "%s, byte %d", path, call.Pos())
			}
			return true
		})
	})
}

// What changes a record with GORM is of the package that has the record.
func TestRecordsAreChangedByTheirOwner(t *testing.T) {
	changes := map[string]bool{"Create": true, "CreateInBatches": true, "Save": true, "Delete": true, "Model": true, "Updates": true}
	sources(t, func(_, path string, file *ast.File) {
		ast.Inspect(file, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok || len(call.Args) == 0 {
				return true
			}
			method, ok := call.Fun.(*ast.SelectorExpr)
			if !ok || !changes[method.Sel.Name] {
				return true
			}
			arg := call.Args[0]
			if address, ok := arg.(*ast.UnaryExpr); ok {
				arg = address.X
			}
			if record, ok := arg.(*ast.CompositeLit); ok {
				_, foreign := record.Type.(*ast.SelectorExpr)
				assert.False(t, foreign, "%s changes a record of another package with %s", path, method.Sel.Name)
			}
			return true
		})
	})
}

// Whoever holds a transaction uses no second connection: two that do may wait for each
// other for ever. What is given a transaction does not reach for the store.
func TestATransactionIsTheOnlyConnection(t *testing.T) {
	sources(t, func(_, path string, file *ast.File) {
		ast.Inspect(file, func(n ast.Node) bool {
			var in *ast.FuncType
			var body *ast.BlockStmt
			switch f := n.(type) {
			case *ast.FuncDecl:
				in, body = f.Type, f.Body
			case *ast.FuncLit:
				in, body = f.Type, f.Body
			}
			if in == nil || body == nil || !givenATransaction(in) {
				return true
			}
			ast.Inspect(body, func(n ast.Node) bool {
				if field, ok := n.(*ast.SelectorExpr); ok && field.Sel.Name == "store" {
					assert.Fail(t, "reaches for the store while it has a transaction", "%s, byte %d", path, field.Pos())
				}
				return true
			})
			return true
		})
	})
}

func givenATransaction(f *ast.FuncType) bool {
	for _, p := range f.Params.List {
		pointer, ok := p.Type.(*ast.StarExpr)
		if !ok || len(p.Names) == 0 || p.Names[0].Name != "tx" {
			continue
		}
		if t, ok := pointer.X.(*ast.SelectorExpr); ok && t.Sel.Name == "DB" {
			return true
		}
	}
	return false
}

// What is stored is of our own types: a change of the contract never changes stored data.
// A record is a struct with a field that GORM is told of.
func TestRecordsAreOfOurOwnTypes(t *testing.T) {
	records := 0
	sources(t, func(_, path string, file *ast.File) {
		ast.Inspect(file, func(n ast.Node) bool {
			record, ok := n.(*ast.StructType)
			if !ok || !slices.ContainsFunc(record.Fields.List, func(f *ast.Field) bool { return f.Tag != nil && strings.Contains(f.Tag.Value, "gorm:") }) {
				return true
			}
			records++
			for _, f := range record.Fields.List {
				ast.Inspect(f.Type, func(n ast.Node) bool {
					if of, ok := n.(*ast.SelectorExpr); ok {
						pkg, _ := of.X.(*ast.Ident)
						assert.False(t, pkg != nil && pkg.Name == "api", "%s: %v of a record is api.%s", path, f.Names, of.Sel.Name)
					}
					return true
				})
			}
			return true
		})
	})
	require.Greater(t, records, 10, "the test sees the records")
}

// edge are the packages that are HTTP itself or put the service together.
var edge = []string{"service/httpapi", "service/app", "service/web", "service/serve"}

// handles reports whether a file is one in which the contract and the service meet:
// handlers, and what turns records into the contract's form.
func handles(path string) bool {
	name := filepath.Base(path)
	return strings.HasPrefix(name, "handlers") || strings.HasPrefix(name, "answers")
}

// Types of the contract appear in handler files alone: what is stored and what rules
// compute with is our own, so that a change of the contract never changes it.
func TestTheContractStaysInHandlers(t *testing.T) {
	sources(t, func(pkg, path string, file *ast.File) {
		for _, i := range file.Imports {
			if i.Path.Value == `"rotanex.example/api"` && !slices.Contains(edge, pkg) {
				assert.True(t, handles(path), "%s imports the contract: move what needs it to handlers.go or answers.go", path)
			}
		}
	})
}

// A handler reads the request, calls one function and writes the answer: what answers a
// request stands in a handler file, is short, and such files do not reach for the database.
func TestHandlersOnlyHandle(t *testing.T) {
	const longest = 40 // lines
	handlers := 0
	set := token.NewFileSet()
	require.NoError(t, filepath.WalkDir("service", func(path string, d fs.DirEntry, err error) error {
		pkg := filepath.ToSlash(filepath.Dir(path))
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || slices.Contains(edge, pkg) {
			return err
		}
		file, err := parser.ParseFile(set, path, nil, 0)
		if err != nil {
			return err
		}
		for _, d := range file.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok || f.Body == nil {
				continue
			}
			if answersRequests(f.Type) {
				handlers++
				assert.True(t, handles(path), "%s answers requests in %s: move it to handlers.go", f.Name.Name, path)
				lines := set.Position(f.End()).Line - set.Position(f.Pos()).Line
				assert.LessOrEqual(t, lines, longest, "%s in %s does more than handle", f.Name.Name, path)
			}
			if handles(path) {
				ast.Inspect(f.Body, func(n ast.Node) bool {
					if field, ok := n.(*ast.SelectorExpr); ok && (field.Sel.Name == "store" || field.Sel.Name == "Store") {
						assert.Fail(t, "a handler file reaches for the database", "%s in %s", f.Name.Name, path)
					}
					return true
				})
			}
		}
		return nil
	}))
	require.Greater(t, handlers, 60, "the test finds the handlers")
}

// answersRequests reports whether a function is given a response to write.
func answersRequests(f *ast.FuncType) bool {
	for _, p := range f.Params.List {
		if s, ok := p.Type.(*ast.SelectorExpr); ok && s.Sel.Name == "ResponseWriter" {
			return true
		}
	}
	return false
}

// A package of the service is small enough to be known: no more than 1,300 lines without
// its tests.
func TestPackagesAreSmall(t *testing.T) {
	const most = 1300
	lines := map[string]int{}
	sources(t, func(pkg, path string, _ *ast.File) {
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		lines[pkg] += strings.Count(string(data), "\n")
	})
	for pkg, n := range lines {
		assert.LessOrEqual(t, n, most, pkg)
	}
}
