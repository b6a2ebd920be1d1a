// Command document prints the OpenAPI document, for generating the console's
// types.
package main

import (
	"os"

	"gneiss/api"
)

func main() {
	if _, err := os.Stdout.Write(api.Document()); err != nil {
		os.Exit(1)
	}
}
