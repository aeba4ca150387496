"""The one way in which Harvok works with processes of its own.

A worker is a module that runs as a process, with its orders as JSON in its first argument. Both sides write lines. The
worker's first line is {"ready": …} when it can begin at once, and {"fault": [message, hint]} when it cannot; a fault
may also come later. Where there is something to begin, it waits for the line `go`. When its standard input closes, the
parent wants it to end, or is gone: it ends. `parent` is the side that starts workers, `child` that of the worker.
"""
