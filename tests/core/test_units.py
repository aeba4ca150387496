import math
import unittest

from harvok.core import units
from harvok.errors import BadQuantityError


class ReadingQuantities(unittest.TestCase):
    def test_rates_are_decimal_bits_per_second(self) -> None:
        for text, wanted in (("1G", 1e9), ("2.5G", 2.5e9), ("100M", 1e8), ("941.5Mb/s", 941.5e6), ("64 kbit/s", 64e3)):
            self.assertEqual(units.parse_rate_bps(text), wanted, text)

    def test_bytes_per_second_are_refused_as_a_rate(self) -> None:
        with self.assertRaisesRegex(BadQuantityError, "bytes"):
            units.parse_rate_bps("117MB/s")

    def test_sizes_tell_decimal_from_binary(self) -> None:
        for text, wanted in (("64k", 64_000), ("64Ki", 65_536), ("8M", 8_000_000), ("4Mi", 4 << 20), ("1500B", 1500)):
            self.assertEqual(units.parse_size_bytes(text), wanted, text)

    def test_a_fraction_of_a_byte_is_refused(self) -> None:
        with self.assertRaises(BadQuantityError):
            units.parse_size_bytes("1.5")

    def test_times_need_their_unit(self) -> None:
        for text, wanted in (("1.5ms", 0.0015), ("35ms", 0.035), ("60s", 60), ("2min", 120), ("250µs", 250e-6)):
            self.assertAlmostEqual(units.parse_duration_s(text), wanted, places=12, msg=text)
        with self.assertRaisesRegex(BadQuantityError, "'60' is not a time"):
            units.parse_duration_s("60")

    def test_nonsense_is_refused_with_the_form_that_is_wanted(self) -> None:
        for parse in (units.parse_rate_bps, units.parse_size_bytes, units.parse_duration_s):
            for text in ("", "fast", "-1G", "1e9", "1 G G", "G", "1Q", "nan"):
                with self.assertRaises(BadQuantityError, msg=f"{parse.__name__} {text!r}") as caught:
                    parse(text)
                self.assertIn("such as", caught.exception.hint)


class ShowingQuantities(unittest.TestCase):
    def test_rates(self) -> None:
        shown = {
            941.482e6: "941.5 Mb/s",
            1e9: "1000.0 Mb/s",
            9.9e9: "9900.0 Mb/s",
            12.5e9: "12.50 Gb/s",
            64e3: "64.00 kb/s",
        }
        for value, wanted in shown.items():
            self.assertEqual(units.format_rate(value), wanted)

    def test_a_file_copy_shows_an_eighth(self) -> None:
        self.assertEqual(units.format_byte_rate(941.482e6), "117.7 MB/s")

    def test_speeds_are_short(self) -> None:
        self.assertEqual(
            [units.format_speed(s) for s in (1e9, 2.5e9, 1e8, 10e6)], ["1 Gb/s", "2.5 Gb/s", "100 Mb/s", "10 Mb/s"]
        )

    def test_times(self) -> None:
        shown = {
            0.0352: "35.20 ms",
            1.5: "1.500 s",
            125.0: "2 min 5 s",
            4e-6: "4.000 µs",
            3700.0: "1 h 1 min",
            0.0: "0 s",
        }
        for value, wanted in shown.items():
            self.assertEqual(units.format_duration(value), wanted)

    def test_planned_times_are_short(self) -> None:
        self.assertEqual(
            [units.format_span(s) for s in (8.0, 1.5, 300.0, 3600.0, 130.0)],
            ["8 s", "1.5 s", "5 min", "1 h", "2 min 10 s"],
        )

    def test_brief_forms_for_columns(self) -> None:
        sizes = [units.format_size_briefly(s) for s in (0, 999, 216_000, 4_718_000, 65_480, 1e9)]
        self.assertEqual(sizes, ["0 B", "999 B", "216 kB", "4.72 MB", "65.5 kB", "1 GB"])
        self.assertEqual(units.format_times_briefly(4e-6, 459e-6), "4/459 µs")
        self.assertEqual(units.format_times_briefly(0.0351, 0.036), "35.1/36 ms")
        self.assertEqual(units.format_times_briefly(0.0, 1.25), "0/1.25 s")

    def test_small_shares_keep_their_digits(self) -> None:
        self.assertEqual(
            [units.format_share(s) for s in (0.991, 0.00012, 1e-7, 0.0)], ["99.1 %", "0.012 %", "<0.001 %", "0.0 %"]
        )

    def test_sizes(self) -> None:
        self.assertEqual([units.format_size(s) for s in (1500, 4_375_000, 131_072)], ["1500 B", "4.375 MB", "131.1 kB"])

    def test_as_many_digits_as_an_uncertainty_leaves(self) -> None:
        for value, unit, uncertainty, wanted in (
            (941.47e6, "b/s", 3e6, "941 Mb/s"),
            (941.47e6, "b/s", 0.3e6, "941.5 Mb/s"),
            (941.47e6, "b/s", 1.4e6, "941.5 Mb/s"),  # two digits of an uncertainty that begins with a 1
            (941.47e6, "b/s", 90e6, "941 Mb/s"),  # never less than whole units
            (941.47e6, "b/s", 0.0, "941.5 Mb/s"),
            (941.47e6, "b/s", math.inf, "941.5 Mb/s"),
            (9.4147e9, "b/s", 0.2e6, "9414.7 Mb/s"),
            (4.5126e-6, "s", 0.2e-6, "4.5 µs"),
            (4.5126e-6, "s", 0.02e-6, "4.51 µs"),
            (999_262.0, "frames/s", 340.0, "999 300 frames/s"),
            (999_262.0, "frames/s", 0.2, "999 262 frames/s"),
            (0.0123, "ratio", 0.01, "1.2 %"),
        ):
            self.assertEqual(units.format_measured(value, unit, uncertainty), wanted, (value, uncertainty))
        self.assertEqual(units.format_byte_rate(941.47e6, 3e6), "117.7 MB/s")
        self.assertEqual(units.format_byte_rate(941.47e6, 30e6), "118 MB/s")
