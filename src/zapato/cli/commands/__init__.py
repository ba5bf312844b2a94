"""One module a command, each with a `COMMAND`."""
