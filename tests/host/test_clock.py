"""Moments as people read them."""

import os
import time
import unittest
from datetime import UTC, datetime
from unittest import mock

from harvok.clock import local_words


class Words(unittest.TestCase):
    def setUp(self) -> None:
        self.addCleanup(time.tzset)

    def test_here_with_the_zone(self) -> None:
        at = datetime(2026, 11, 27, 5, 27, 13, tzinfo=UTC)
        summer = datetime(2026, 7, 1, 5, 0, tzinfo=UTC)
        for zone, wanted, in_summer in (
            ("CET-1CEST,M3.5.0,M10.5.0", "2026-11-27 06:27 CET", "2026-07-01 07:00 CEST"),
            ("UTC", "2026-11-27 05:27 UTC", "2026-07-01 05:00 UTC"),
        ):
            with mock.patch.dict(os.environ, {"TZ": zone}):
                time.tzset()
                self.assertEqual((local_words(at), local_words(summer)), (wanted, in_summer))
                self.assertEqual(local_words(at, seconds=True)[14:19], "27:13")
