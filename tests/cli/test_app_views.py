"""Charts and views of application traffic, without any."""

import io
import re
import unittest

from rich.console import Console

from harvok.cli.render.app import AppStyle
from harvok.cli.render.charts import Chart, ChartLimit, braille, charts
from harvok.core.app.rows import AppRow, AppRows
from harvok.core.trials.app import AppInterval


def dots(lines: list[str]) -> list[list[int]]:
    """For each column of dots the rows that are set, from the bottom."""
    height, width = len(lines), len(lines[0])
    bits = ((0x01, 0x08), (0x02, 0x10), (0x04, 0x20), (0x40, 0x80))
    columns: list[list[int]] = [[] for _ in range(2 * width)]
    for y, line in enumerate(lines):
        for x, character in enumerate(line):
            for row, pair in enumerate(bits):
                for side, bit in enumerate(pair):
                    if (ord(character) - 0x2800) & bit:
                        columns[2 * x + side].append(4 * height - 1 - (4 * y + row))
    return columns


class Braille(unittest.TestCase):
    def test_values_are_dots_and_neighbours_are_joined(self) -> None:
        found = dots(braille([0.0, 4.0, 8.0] + [8.0] * 17, 10, 2, 8.0))
        self.assertEqual([sorted(column) for column in found[:4]], [[0], [0, 1, 2, 3, 4], [4, 5, 6, 7], [7]])
        self.assertTrue(all(column == [7] for column in found[3:]))

    def test_a_gap_is_a_gap_and_nothing_is_empty(self) -> None:
        found = dots(braille([1.0, None] * 10, 10, 1, 1.0))
        self.assertEqual(found, [[3], []] * 10)
        self.assertEqual(braille([], 3, 1, 0.0), ["\u2800" * 3])

    def test_only_the_newest_are_shown_and_few_are_widened(self) -> None:
        self.assertEqual(dots(braille([9.0] * 50 + [0.0] * 20, 10, 1, 9.0)), [[0]] * 20)
        self.assertEqual(dots(braille([1.0], 10, 1, 1.0)), [[]] * 14 + [[3]] * 6)

    def test_a_ceiling_is_drawn_across_and_what_happened_upright(self) -> None:
        found = dots(braille([2.0] * 20, 10, 2, 8.0, ceiling=8.0, marks=[10]))
        self.assertEqual([column for column, rows in enumerate(found) if 7 in rows], [0, 4, 8, 10, 12, 16])
        self.assertEqual(sorted(found[10]), [1, 2, 3, 5, 7])
        self.assertEqual(dots(braille([1.0] * 90, 10, 1, 1.0, marks=[3])), dots(braille([1.0] * 90, 10, 1, 1.0)))

    def test_a_limit_is_drawn_across_and_a_value_that_misses_it_is_said_to(self) -> None:
        found = dots(braille([2.0] * 20, 10, 2, 8.0, limit=8.0))
        self.assertEqual([column for column, rows in enumerate(found) if 7 in rows], list(range(0, 20, 2)))
        for limit, value, words in (
            (ChartLimit(5, at_least=True), 4, "users 4 too low (min 5)"),
            (ChartLimit(5, at_least=True), 5, "users 5 (min 5)"),
            (ChartLimit(5, at_least=False), 6, "users 6 too high (max 5)"),
            (ChartLimit(5, at_least=False), None, "users – (max 5)"),
        ):
            out = io.StringIO()
            drawn = charts([Chart("users", [9, value], "{:.0f}".format, limit=limit)], 80)
            Console(file=out, width=80, force_terminal=True, color_system="standard").print(drawn)
            self.assertIn(words, re.sub(r"\x1b\[[\d;]*m", "", out.getvalue()))
            self.assertEqual("31m" in out.getvalue(), "too" in words)

    def test_charts_say_the_newest_and_the_largest(self) -> None:
        out = io.StringIO()
        ones = [Chart("users", [1, 9, 4], "{:.0f}".format), Chart("failed", [], str), Chart("lag", [None, None], str)]
        Console(file=out, width=80).print(charts(ones, 80))
        self.assertIn("users 4, max 9", out.getvalue())
        self.assertIn("failed –", out.getvalue())


class Rows(unittest.TestCase):
    def rows(self, failed: int = 0, unserved: int = 0) -> list[AppRow]:
        interval = AppInterval(
            "send", "sender", 0, 0.0, 2.0, users=5, open_connections=7, connections=4, transactions=200,
            request_bytes=1000, response_bytes=250_000, first_byte_median_s=0.001, response_median_s=0.002,
            response_p999_s=0.03, lag_p99_s=1e-5, failed=failed, unserved=unserved,
        )  # fmt: skip
        service = AppInterval("send", "receiver", 0, 0.0, 2.0, transactions=200)
        return list(AppRows().add([*interval.samples("near", 0.0), *service.samples("far", 0.0)]))

    def test_only_users_make_rows_with_rates(self) -> None:
        (row,) = self.rows()
        self.assertEqual((row.transactions_per_s, row.connections_per_s, row.response_bps), (100, 2, 1_000_000))

    def test_a_line_says_what_failed_where_something_did(self) -> None:
        style = AppStyle()
        line = style.line(self.rows()[0])
        self.assertIn("5 users, 7 open, 100 transactions/s", line)
        self.assertNotIn("failed", line)
        self.assertIn("failed 3; unserved 2", style.line(self.rows(failed=3, unserved=2)[0]))


if __name__ == "__main__":
    unittest.main()
