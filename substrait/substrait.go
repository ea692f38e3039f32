// Package substrait hands the table library the function definitions it looks up when the program starts.
//
// The module of this name that the library asks for carries every definition of the Substrait specification, and parsing
// them costs each start of the program more than a tenth of a second. Only the functions behind a table scan's filters are
// ever looked up, so this module, put in its place by a replace directive, declares those and nothing else.
package substrait

import "embed"

//go:embed extensions/*.yaml
var extensions embed.FS

// GetSubstraitFS returns the definition files under extensions/.
func GetSubstraitFS() embed.FS { return extensions }

// GetSubstraitExtensionsFS returns the same files; the libraries above ask by either name.
func GetSubstraitExtensionsFS() embed.FS { return extensions }
