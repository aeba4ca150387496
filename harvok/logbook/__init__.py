"""Where runs are kept: a database of records, and records in and out of it."""
