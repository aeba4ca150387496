"""All tests of Harvok. `python -m tests` runs them."""

import signal

# Every program that a test starts ends by SIGINT as at a terminal, also where whoever started the tests ignores that
# signal, as a shell does for what it puts into the background. Programs inherit it ignored, or else with its default.
signal.signal(signal.SIGINT, signal.default_int_handler)
