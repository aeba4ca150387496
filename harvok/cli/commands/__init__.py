"""One file for each command; cli/table.py names them."""
