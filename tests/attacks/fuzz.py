"""Requests that no near end makes, from a station's own OpenAPI document: each is answered with 2xx or a clear 4xx.

python -m tests.attacks.fuzz 50000 [SEED]
"""

import json
import random
import sys
from collections import Counter
from dataclasses import dataclass, field
from typing import Any
from unittest import mock

from fastapi.testclient import TestClient

from harvok.clock import SYSTEM
from harvok.core.models.control import Fault
from harvok.host.facts import host_conditions
from harvok.station import far_end, http
from harvok.station.capabilities import CAPABILITIES
from harvok.station.doors import Doors
from harvok.station.http import make_app
from harvok.station.service import Station, StationSettings

TOKEN = "spectro-lead"
_GOOD = {"Authorization": f"Bearer {TOKEN}", "Content-Type": "application/json"}
_NUMBERS = "NaN Infinity -Infinity 1e308 -1e308 1e999 -1 0 1 0.5 2147483648 -9223372036854775809 18446744073709551616"
_TEXTS = (
    r'"" "\ud800" "\u0000" "\u001b[2J" "../../etc/passwd" "%s%n" "tcp" "udp" "far" "239.1.2.3" null true [] {} [[]]'
)
_NASTY = [*_NUMBERS.split(), *_TEXTS.split(), "9" * 400, f'"{"x" * 3000}"', "[" * 500 + "]" * 500]
_GOOD_VALUES: dict[str, Any] = {
    "near": "dome",
    "planned_s": 20,
    "kind": "tcp",
    "duration_s": 1.0,
    "interval_s": 1.0,
    "tick_s": 0.1,
    "load_fps": 100.0,
    "payload_bytes": 200,
    "name": "send",
    "source": "near",
    "destination": "far",
    "flows": 1,
    "method": "auto",
    "capabilities": list(CAPABILITIES),
}
_CLAIM, _GIVE_BACK = ("POST", "/v1/sessions"), ("DELETE", "/v1/sessions/{session}")


@dataclass(slots=True)
class Outcome:
    """How often each status came, and the requests that were answered with anything but 2xx or a clear 4xx."""

    statuses: Counter[int] = field(default_factory=Counter)
    wrong: list[str] = field(default_factory=list)


class Fuzz:
    """One station without a network, and seeded requests to it."""

    def __init__(self, seed: int, data_port: int) -> None:
        self._random = random.Random(seed)
        settings = StationSettings("hall", TOKEN, data_port + 1, data_port, "127.0.0.1", max_test_s=60, max_flows=4)
        self._station = Station(settings, SYSTEM, lambda _: None)
        app = make_app(self._station, Doors())
        self._client = TestClient(app, client=("127.0.0.1", 50000), raise_server_exceptions=False)
        self._document = app.openapi()
        self._calls = [
            (method.upper(), path, operation)
            for path, operations in self._document["paths"].items()
            for method, operation in operations.items()
        ]
        self._session = ""

    def run(self, cases: int) -> Outcome:
        """Makes so many requests."""
        outcome = Outcome()
        conditions = host_conditions("127.0.0.1", name="hall")  # which take longer than all else together
        with (
            mock.patch.object(far_end, "_ADMISSION_TIMEOUT_S", 0.001),
            mock.patch.object(http, "host_conditions", lambda *_, **__: conditions),
        ):
            for _ in range(cases):
                self._ask(outcome)
        self._station.close()
        return outcome

    def _ask(self, outcome: Outcome) -> None:
        method, path, operation = self._some_call()
        path = path.replace("{session}", self._some_session())
        body = self._body(operation)
        got = self._client.request(method, path, content=body, headers=self._headers())
        outcome.statuses[got.status_code] += 1
        if got.status_code == 201 and path == "/v1/sessions":
            self._session = got.json()["session"]
        if got.is_success and method == "DELETE" and path.endswith(f"/{self._session}"):
            self._session = ""
        if not (got.is_success or self._is_clear(got.status_code, got.content)):
            outcome.wrong.append(f"{method} {path} {body!r:.300}: {got.status_code} {got.text[:200]}")

    def _some_call(self) -> tuple[str, str, dict[str, Any]]:
        """Any call; the session is claimed where there is none, and seldom given back."""
        call = self._random.choice(self._calls)
        if call[:2] == _GIVE_BACK and self._random.random() < 0.9:
            call = self._random.choice(self._calls)
        if not self._session and self._random.random() < 0.8:
            call = next(one for one in self._calls if one[:2] == _CLAIM)
        return call

    def _is_clear(self, status: int, content: bytes) -> bool:
        if not 400 <= status < 500:
            return False
        fault = Fault.model_validate_json(content)
        return bool(fault.message and fault.hint)

    def _headers(self) -> dict[str, str]:
        return _GOOD if self._random.random() < 0.97 else {"Authorization": self._random.choice(["", "Bearer x", "x"])}

    def _some_session(self) -> str:
        return (
            self._session or "x" if self._random.random() < 0.9 else self._random.choice(["x", "%00", "%ff", "a" * 900])
        )

    def _body(self, operation: dict[str, Any]) -> bytes:
        wanted = operation.get("requestBody")
        if not wanted:
            return b"" if self._random.random() < 0.8 else self._nasty().encode()
        text = self._value(wanted["content"]["application/json"]["schema"], "", 0)
        if self._random.random() < 0.05:
            at = self._random.randrange(len(text))
            text = text[:at] + self._random.choice(['"', "{", "\\", "\x00", "é", ""]) + text[at + 1 :]
        return text.encode()

    def _nasty(self) -> str:
        return self._random.choice(_NASTY)

    def _value(self, schema: dict[str, Any], name: str, depth: int) -> str:
        """JSON that a schema allows, but for one value in some twenty."""
        if self._random.random() < 0.05 or depth > 8:
            return self._nasty()
        if "$ref" in schema:
            return self._value(
                self._document["components"]["schemas"][schema["$ref"].rpartition("/")[2]], name, depth + 1
            )
        for several in ("anyOf", "oneOf"):
            if several in schema:
                return self._value(self._random.choice(schema[several]), name, depth + 1)
        if "const" in schema or "enum" in schema:
            return json.dumps(schema.get("const", self._random.choice(schema.get("enum", [None]))))
        if name in _GOOD_VALUES:
            return json.dumps(_GOOD_VALUES[name])
        return self._of_type(schema, depth)

    def _of_type(self, schema: dict[str, Any], depth: int) -> str:
        kind = schema.get("type")
        if kind == "object":
            required = schema.get("required", [])
            chosen = [key for key in schema.get("properties", {}) if key in required or self._random.random() < 0.3]
            return (
                "{"
                + ",".join(f'"{key}":{self._value(schema["properties"][key], key, depth + 1)}' for key in chosen)
                + "}"
            )
        if kind == "array":
            items = schema.get("items") or {"type": "string"}
            return "[" + ",".join(self._value(items, "", depth + 1) for _ in range(self._random.randint(0, 2))) + "]"
        return {"integer": "3", "number": "1.5", "string": '"x"', "boolean": "true", "null": "null"}.get(
            str(kind), "null"
        )


if __name__ == "__main__":
    found = Fuzz(int(sys.argv[2]) if len(sys.argv) > 2 else 1, 27999).run(int(sys.argv[1]))
    print(dict(sorted(found.statuses.items())))
    print("\n".join(found.wrong[:20]))
    sys.exit(1 if found.wrong else 0)
