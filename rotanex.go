// Package rotanex is the root of the module; its parts are in the folders below.
// See docs/architecture.md.
package rotanex
