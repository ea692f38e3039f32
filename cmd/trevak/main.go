// Command trevak turns raw delimited and nested files into partitioned columnar tables.
package main

import (
	"os"

	"trevak/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:])) }
