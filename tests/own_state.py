"""A folder for the state that Harvok keeps on a host, of each test's own."""

import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from harvok.host.state import STATE_FOLDER


def own_state(test: unittest.TestCase) -> Path:
    """An empty folder that holds locks, notes and control sockets until the test ends."""
    folder = Path(test.enterContext(tempfile.TemporaryDirectory()))
    test.enterContext(mock.patch.dict(os.environ, {STATE_FOLDER: str(folder)}))
    return folder
