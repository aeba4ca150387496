"""Where trials run. Every rig has `run(trial, observe)` and is a context manager that leaves nothing behind."""
