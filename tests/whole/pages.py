"""A page without a browser: does over plain HTTP what the page of a station does, as far as a station can tell."""

import http.client
import json
import threading
import time
from contextlib import suppress
from typing import Any

_BLOCK = b"\x5a" * 65536


class Page:
    """What has a station's page open. `address` is host and port, `code` what admits."""

    def __init__(self, address: tuple[str, int], code: str) -> None:
        self.address, self._code = address, code

    def ask(self, path: str, body: Any = None, code: str | None = None) -> tuple[int, Any]:
        """(status, what was answered) of one call."""
        connection = http.client.HTTPConnection(*self.address, timeout=20)
        try:
            headers = {"Authorization": f"Bearer {self._code if code is None else code}"}
            sent = None if body is None else json.dumps(body)
            connection.request("GET" if body is None else "POST", path, sent, headers)
            answer = connection.getresponse()
            return answer.status, json.loads(answer.read())
        finally:
            connection.close()

    def measure(self, place: str, stop_at: str = "") -> dict[str, Any]:
        """Does all that the station orders and returns the ending; falls silent for good at the load `stop_at`."""
        status, begun = self.ask("/visits", {"place": place, "browser": "Test 1", "system": "Linux", "cores": 2})
        assert status == 200, begun
        visit, done = begun["visit"], 0
        while True:
            _, order = self.ask(f"/next/{visit}/{done}")
            if "ended" in order:
                ended: dict[str, Any] = order["ended"]
                return ended
            if not order:
                continue
            if order["load"] == stop_at:
                return {"silent": order}
            self._trial(visit, order)
            done = order["number"]

    def _trial(self, visit: str, order: dict[str, Any]) -> None:
        over = threading.Event()
        ways = [way for way, wanted in ((self._receive, order["receive"]), (self._send, order["send"])) if wanted]
        name = f"{visit}/{order['number']}"
        threads = [
            threading.Thread(target=way, args=(f"{name}/{number}", over))
            for way in ways
            for number in range(order["connections"])
        ]
        for thread in threads:
            thread.start()
        times, began = [], time.monotonic()
        while not over.is_set():
            asked = time.monotonic()
            _, live = self.ask(f"/live/{name}")
            if live["over"] or (not threads and asked - began > order["duration_s"]):
                over.set()
            times.append(time.monotonic() - asked)
            time.sleep(0.05)
        for thread in threads:
            thread.join()
        self.ask(f"/report/{name}", {"responses_s": times, "clock_step_s": 1e-6})

    def _receive(self, name: str, over: threading.Event) -> None:
        connection = http.client.HTTPConnection(*self.address, timeout=20)
        with suppress(OSError, http.client.HTTPException):
            connection.request("GET", f"/receive/{name}", headers={"Authorization": f"Bearer {self._code}"})
            answer = connection.getresponse()
            while answer.read(len(_BLOCK)):
                pass
        connection.close()

    def _send(self, name: str, over: threading.Event) -> None:
        connection = http.client.HTTPConnection(*self.address, timeout=20)
        with suppress(OSError, http.client.HTTPException):
            while not over.is_set():
                headers = {"Authorization": f"Bearer {self._code}"}
                connection.request("POST", f"/send/{name}", _BLOCK * 16, headers)
                connection.getresponse().read()
        connection.close()
