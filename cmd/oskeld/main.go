// Oskeld: the service, the agent and the client in one program.
package main

import (
	"os"

	"oskeld.dev/oskeld/internal/command"
)

func main() { os.Exit(command.Main(os.Args[1:])) }
