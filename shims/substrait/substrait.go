// Package substrait hands the table library the function definitions it looks up when the program starts.
//
// The module of this name that the library asks for carries every definition of the Substrait specification, and parsing
// them costs each start of the program more than a tenth of a second. They are looked up for the filters of the library's own
// scans alone, of which this program makes none, so this module, put in its place by a replace directive, declares nothing.
package substrait

import "embed"

//go:embed extensions/*.yaml
var extensions embed.FS

// GetSubstraitFS returns the definition files under extensions/.
func GetSubstraitFS() embed.FS { return extensions }

// GetSubstraitExtensionsFS returns the same files; the libraries above ask by either name.
func GetSubstraitExtensionsFS() embed.FS { return extensions }
