"""SNMP's codec: there and back, against another's, and against whatever may come."""

import random
import unittest

from hypothesis import given
from hypothesis import strategies as st
from pyasn1.codec.ber import decoder, encoder
from pysnmp.proto.api import v2c

from harvok.core.device import mib
from harvok.core.device.reading import PortCounts
from harvok.core.wire import ber
from harvok.core.wire.ber import BerReader, MalformedBerError, object_id_of, written
from harvok.core.wire.snmp import (
    COUNTER_32,
    COUNTER_64,
    GAUGE_32,
    GET,
    GET_BULK,
    GET_NEXT,
    RESPONSE,
    SET,
    TIME_TICKS,
    TOO_BIG,
    Binding,
    Missing,
    Number,
    SnmpMessage,
    SnmpValue,
    make_message,
    number_of,
    read_message,
    text_of,
)
from harvok.core.wire.snmp_agent import MAX_ANSWER_BYTES, AgentPort, AgentState, answer_to, objects_of

NAMES = st.tuples(st.just(1), st.just(3), st.integers(0, 2**32 - 1), st.integers(0, 200))
VALUES = st.one_of(
    st.none(),
    st.integers(-(2**31), 2**31 - 1),
    st.binary(max_size=300),
    NAMES,
    st.builds(Number, st.integers(0, 2**64 - 1), st.just(COUNTER_64)),
    st.builds(Number, st.integers(0, 2**32 - 1), st.sampled_from([COUNTER_32, GAUGE_32, TIME_TICKS])),
    st.sampled_from([Missing("no such object"), Missing(), Missing("end of the view")]),
)
MESSAGES = st.builds(
    SnmpMessage,
    st.binary(max_size=40),
    st.sampled_from([GET, GET_NEXT, SET, RESPONSE, GET_BULK]),
    st.integers(-(2**31), 2**31 - 1),
    st.lists(st.builds(Binding, NAMES, VALUES), max_size=12),
    st.integers(0, 18),
    st.integers(0, 2**31 - 1),
)
UPTIME = object_id_of("1.3.6.1.2.1.1.3.0")


class TheCodec(unittest.TestCase):
    @given(MESSAGES)
    def test_what_is_written_is_read_again(self, message: SnmpMessage) -> None:
        self.assertEqual(read_message(make_message(message)), message)

    @given(st.binary(max_size=400))
    def test_rubbish_is_refused_and_never_more(self, data: bytes) -> None:
        with self.assertRaises(MalformedBerError):
            read_message(b"\x31" + data)

    @given(MESSAGES, st.data())
    def test_what_is_cut_or_altered_is_read_or_refused(self, message: SnmpMessage, data: st.DataObject) -> None:
        whole = make_message(message)
        with self.assertRaises(MalformedBerError):
            read_message(whole[: data.draw(st.integers(0, len(whole) - 1))])
        bent = bytearray(whole)
        bent[data.draw(st.integers(0, len(whole) - 1))] = data.draw(st.integers(0, 255))
        try:
            self.assertIsInstance(read_message(bytes(bent)), SnmpMessage)
        except MalformedBerError as refused:
            self.assertTrue(str(refused))

    def test_lengths_and_numbers_out_of_bounds_are_refused(self) -> None:
        for data in (
            b"\x30\x80\x00\x00",  # an indefinite length
            b"\x30\x85\x01\x01\x01\x01\x01",  # a length of five bytes
            b"\x30\x84\xff\xff\xff\xff",  # more than there is
            ber.element(ber.SEQUENCE, b"\x02\x00"),  # a number of no bytes
            ber.element(ber.SEQUENCE, b"\x02\x0a" + b"\x01" * 10),  # and one of ten
        ):
            with self.assertRaises(MalformedBerError):
                read_message(data)
        for content in (b"", b"\x2b\x86", b"\x2b\x90\x80\x80\x80\x00", b"\x2b" * 128):
            with self.assertRaises(MalformedBerError):
                ber.read_object_id(content)

    def test_an_agent_that_forgets_the_sign_byte_is_understood(self) -> None:
        self.assertEqual(ber.read_unsigned(b"\xff\xff\xff\xff"), 2**32 - 1)

    def test_numbers_take_as_few_bytes_as_can_be(self) -> None:
        for value, content in (
            (0, "00"),
            (127, "7f"),
            (128, "0080"),
            (-128, "80"),
            (-129, "ff7f"),
            (2**31, "0080000000"),
        ):
            self.assertEqual(ber.integer(value)[2:].hex(), content)
        self.assertEqual(written(BerReader(ber.object_id((2, 999, 1))).object_id()), "2.999.1")

    def test_values_for_people(self) -> None:
        self.assertEqual(text_of(b"dome-sw-a\x00 "), "dome-sw-a")
        self.assertEqual((text_of(7), text_of(b"\xff")), ("", "\N{REPLACEMENT CHARACTER}"))
        self.assertEqual((number_of(7), number_of(Number(8, COUNTER_32)), number_of(b"9")), (7, 8, None))


class AgainstAnother(unittest.TestCase):
    """The package pysnmp writes and reads the same bytes."""

    def test_requests_are_the_same_bytes(self) -> None:
        rng = random.Random(16)
        for kind, pdu in ((GET, v2c.GetRequestPDU()), (GET_NEXT, v2c.GetNextRequestPDU())):
            names = [(1, 3, 6, 1, 2, 1, rng.randrange(2**32), rng.randrange(2**14)) for _ in range(20)]
            v2c.apiPDU.set_defaults(pdu)
            v2c.apiPDU.set_request_id(pdu, 4711)
            v2c.apiPDU.set_varbinds(pdu, [(name, v2c.Null("")) for name in names])
            theirs = v2c.Message()
            v2c.apiMessage.set_defaults(theirs)
            v2c.apiMessage.set_community(theirs, "dome")
            v2c.apiMessage.set_pdu(theirs, pdu)
            ours = make_message(SnmpMessage(b"dome", kind, 4711, [Binding(name) for name in names]))
            self.assertEqual(encoder.encode(theirs), ours)

    def test_answers_are_read_alike(self) -> None:
        values: list[SnmpValue] = [
            Number(2**64 - 1, COUNTER_64),
            Number(77, TIME_TICKS),
            -5,
            b"gi1",
            (1, 3, 6),
            Missing(),
        ]
        ours = make_message(
            SnmpMessage(b"dome", RESPONSE, 9, [Binding((1, 3, number), value) for number, value in enumerate(values)])
        )
        theirs, rest = decoder.decode(ours, asn1Spec=v2c.Message())
        self.assertEqual(rest, b"")
        pdu = v2c.apiMessage.get_pdu(theirs)
        read = [value for _, value in v2c.apiPDU.get_varbinds(pdu)]
        self.assertEqual([int(value) for value in read[:3]], [2**64 - 1, 77, -5])
        self.assertEqual((bytes(read[3]), tuple(read[4])), (b"gi1", (1, 3, 6)))
        self.assertEqual(encoder.encode(theirs), ours)


class TheAgent(unittest.TestCase):
    def setUp(self) -> None:
        port = AgentPort(
            3, "gi3", PortCounts(frames_in=2**33, octets_in=7, discards_in=2**32 + 5), neighbour_mac=b"\2" * 6
        )
        self.objects = objects_of(AgentState("dome-sw-a", "a switch", 12.5, [port], "1.2", [0.25], [40.1]))

    def ask(self, kind: int, *names: mib.ObjectId, first: int = 0, second: int = 0) -> SnmpMessage:
        request = SnmpMessage(b"harvok", kind, 5, [Binding(name) for name in names], first, second)
        answer = answer_to(make_message(request), "harvok", self.objects)
        assert answer
        self.assertLessEqual(len(answer), MAX_ANSWER_BYTES)
        return read_message(answer)

    def test_values_are_told_in_their_types_and_wrap(self) -> None:
        (frames,) = mib.WIDE["frames_in"][:1]
        names = (mib.SYS_UPTIME, mib.SYS_NAME, (*frames, 3), (*mib.ALWAYS["discards_in"][0], 3), (*frames, 4))
        found = [one.value for one in self.ask(GET, *names).bindings]
        self.assertEqual(found[0], Number(1250, TIME_TICKS))
        self.assertEqual(found[1:4], [b"dome-sw-a", Number(2**33, COUNTER_64), Number(5, COUNTER_32)])
        self.assertEqual(found[4], Missing())

    def test_a_walk_goes_through_everything_once(self) -> None:
        seen = list[mib.ObjectId]()
        at: mib.ObjectId = (0, 0)
        while not isinstance((one := self.ask(GET_NEXT, at).bindings[0]).value, Missing):
            seen.append(one.name)
            at = one.name
        self.assertEqual(seen, sorted(self.objects))

    def test_in_bulk_names_come_once_or_repeated_and_stay_within_a_frame(self) -> None:
        found = self.ask(GET_BULK, mib.SYS_DESCR, (0, 0), first=1, second=3).bindings
        self.assertEqual([one.name for one in found], [mib.SYS_OBJECT_ID, *sorted(self.objects)[:3]])
        self.assertGreater(len(self.ask(GET_BULK, (0, 0), second=90).bindings), 20)
        self.assertEqual(self.ask(GET, *[mib.SYS_DESCR] * 200).first, TOO_BIG)

    def test_nothing_can_be_set_and_others_are_not_answered(self) -> None:
        self.assertTrue(self.ask(SET, mib.SYS_NAME).first)
        request = make_message(SnmpMessage(b"public", GET, 1, [Binding(mib.SYS_NAME)]))
        for data in (request, b"", request[:-3], make_message(SnmpMessage(b"harvok", RESPONSE, 1))):
            self.assertIsNone(answer_to(data, "harvok", self.objects))

    def test_sensors_speak_in_their_own_units(self) -> None:
        self.assertEqual(mib.sensor_value(415, 9, 1), 41.5)
        self.assertEqual(mib.sensor_value(41_500, 8, 0), 41.5)
