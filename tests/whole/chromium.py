"""Debian's Chromium, driven over its pipe (Chrome DevTools Protocol): opens a page, and reads what stands there."""

import base64
import json
import os
import shutil
import subprocess
import tempfile
from pathlib import Path
from typing import Any

CHROMIUM = shutil.which("chromium")
_QUIET = (
    "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
    "--disable-background-networking", "--disable-component-update", "--disable-sync", "--disable-dev-shm-usage",
    "--remote-debugging-pipe",
)  # fmt: skip


class Chromium:
    """One browser with one page; to be closed."""

    def __init__(self, before: tuple[str, ...] = (), width: int = 1280, height: int = 800) -> None:
        """`before` are words that the program is started by, such as those that put it into a namespace."""
        assert CHROMIUM
        self._folder = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        commands, self._orders = os.pipe()
        self._answers, answers = os.pipe()
        words = [*before, CHROMIUM, *_QUIET, f"--user-data-dir={self._folder.name}", f"--window-size={width},{height}"]
        shell = f'exec 3<&{commands} 4>&{answers}; exec "$@"'
        self._process = subprocess.Popen(
            ["bash", "-c", shell, "bash", *words, "about:blank"],
            pass_fds=(commands, answers),
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )
        os.close(commands)
        os.close(answers)
        self._number, self._left, self._session = 0, b"", ""
        targets = self.ask("Target.getTargets")["targetInfos"]
        page = next(one["targetId"] for one in targets if one["type"] == "page")
        self._session = self.ask("Target.attachToTarget", targetId=page, flatten=True)["sessionId"]

    def ask(self, method: str, **parameters: Any) -> Any:
        """Gives an order and waits for what it comes to."""
        self._number += 1
        order: dict[str, Any] = {"id": self._number, "method": method, "params": parameters}
        if self._session:
            order["sessionId"] = self._session
        os.write(self._orders, json.dumps(order).encode() + b"\0")
        while True:
            said = self._next()
            if said.get("id") == self._number:
                if "error" in said:
                    raise RuntimeError(f"{method}: {said['error']}")
                return said["result"]

    def open(self, address: str) -> None:
        self.ask("Page.navigate", url=address)

    def evaluate(self, script: str) -> Any:
        """The value of an expression in the page."""
        return self.ask("Runtime.evaluate", expression=script, returnByValue=True)["result"].get("value")

    def picture(self, file: Path, whole: bool = False) -> None:
        """Photographs the page, or all of it."""
        taken = self.ask("Page.captureScreenshot", captureBeyondViewport=whole)
        file.write_bytes(base64.b64decode(taken["data"]))

    def close(self) -> None:
        self._process.kill()
        self._process.wait()
        os.close(self._orders)
        os.close(self._answers)
        self._folder.cleanup()

    def _next(self) -> dict[str, Any]:
        while b"\0" not in self._left:
            got = os.read(self._answers, 1 << 16)
            if not got:
                raise RuntimeError("the browser went away")
            self._left += got
        said, _, self._left = self._left.partition(b"\0")
        answer: dict[str, Any] = json.loads(said)
        return answer
