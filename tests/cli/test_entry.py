"""How the program hears the signals that end it."""

import signal
import subprocess
import sys
import unittest

_PROGRAM = """
import signal
from harvok.cli import entry, main

class Finalized:
    def __del__(self):
        signal.raise_signal(signal.SIGINT)

def run():
    entry.command_begins()
    try:
        Finalized()
        print("goes on", flush=True)
        signal.pause()
        print("was not told")
    except KeyboardInterrupt:
        print("broken off", entry.was_interrupted())

main.main = run
entry.main()
"""


@unittest.skipUnless(hasattr(signal, "pause"), "this system has no such signals")
class Interrupts(unittest.TestCase):
    def test_one_that_python_drops_comes_once_more(self) -> None:
        command = [sys.executable, "-P", "-c", _PROGRAM]
        done = subprocess.run(command, capture_output=True, text=True, timeout=60, check=False)
        self.assertEqual((done.stdout, done.stderr, done.returncode), ("goes on\nbroken off True\n", "", 0))
