"""Kinds of test: a row for each in a table, with everything that the rest of Harvok has to know about it."""
