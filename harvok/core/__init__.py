"""What Harvok knows: arithmetic, procedures, statistics, verdicts. Pure; no I/O, no clock, no interface code."""
