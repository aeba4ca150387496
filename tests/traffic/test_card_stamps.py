"""Cards and their clocks, as a driver and a device file would answer: none that stamps is at hand here."""

import struct
import unittest
from unittest import mock

from harvok.core.wire.card_stamps import CONFIG_BYTES, PortStamping
from harvok.core.wire.frame_orders import StampsOrder
from harvok.traffic import card_stamps
from harvok.traffic.card_stamps import card_that_stamps, clocks_apart, port_stamping, stamps_of

_CARD = bytes.fromhex("410000005f00000003000000") + struct.pack("=I12xI12x", 0b11, 0b11)
_BEFORE, _STAMPING = struct.pack("=iii", 0, 0, 0), struct.pack("=iii", 0, 1, 1)


class Driver:
    """Answers for a card, and notes how it was set."""

    def __init__(self, refuses: bool = False) -> None:
        self.refuses, self.setting, self.set_to = refuses, _BEFORE, list[bytes]()

    def ask(self, interface: str, request: int, value: bytes) -> bytes:
        if self.refuses:
            raise OSError(95, "not supported")
        if request == 0x8946:
            return _CARD
        if request == 0x89B0:
            self.setting = value
            self.set_to.append(value)
        return self.setting


class Cards(unittest.TestCase):
    def of(self, driver: Driver) -> None:
        self.enterContext(mock.patch.object(card_stamps, "_ask_driver", driver.ask))

    def test_what_a_card_can(self) -> None:
        self.of(Driver())
        self.assertEqual(port_stamping("eth1"), PortStamping(True, True, 3))
        self.of(Driver(refuses=True))
        self.assertEqual(port_stamping("eth1"), PortStamping())

    def test_a_card_is_set_back_as_it_was_whatever_happens(self) -> None:
        driver = Driver()
        self.of(driver)
        with self.assertRaises(KeyError), card_that_stamps("eth1"):
            self.assertEqual(driver.setting, _STAMPING)
            raise KeyError
        self.assertEqual((driver.set_to, len(driver.setting)), ([_STAMPING, _BEFORE], CONFIG_BYTES))

    def test_clocks_of_two_cards_are_read_between_each_other(self) -> None:
        readings = iter([0, 900, 1000, 2000, 2100, 2020, *[5000, 5500, 9000] * 3])
        with (
            mock.patch.object(card_stamps.Path, "open", return_value=mock.MagicMock()),  # type: ignore[attr-defined]
            mock.patch.object(card_stamps.SYSTEM.__class__, "card_ns", lambda *_: next(readings)),  # type: ignore[attr-defined]
        ):
            apart = clocks_apart(3, 4)
        self.assertEqual((apart.offset_s, apart.error_s), (9e-8, 1e-8), "the quickest of five readings counts")
        self.assertEqual((clocks_apart(3, 3).offset_s, clocks_apart(3, 3).error_s), (0.0, 0.0))

    def test_what_a_port_says_of_itself(self) -> None:
        self.of(Driver())
        told = stamps_of(StampsOrder("eth1"))
        self.assertEqual((told.hardware, told.clock, told.ahead_s), (True, 3, None))
        same = stamps_of(StampsOrder("eth1", 3))
        self.assertEqual((same.ahead_s, same.error_s), (0.0, 0.0))
        self.assertIsNone(stamps_of(StampsOrder("eth1", 9)).ahead_s, "there is no such device file")
