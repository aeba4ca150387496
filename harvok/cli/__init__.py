"""The command line: Typer commands, Rich rendering, exit codes. Nothing is computed here."""
