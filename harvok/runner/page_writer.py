"""Writes a site's page, and its metrics, while its coordinator goes on: in a process of its own, one at a time."""

import os
import subprocess
from pathlib import Path
from types import TracebackType

from harvok.core.site.outcome import SiteTest
from harvok.runner.site_orders import LOGBOOK
from harvok.worker.parent import module_command

_LAST_S = 120.0


class PageWriter:
    """A context manager; without a file to write it does nothing. At the end the files show everything."""

    def __init__(self, site: Path, page: Path | None, metrics: Path | None, logbook: str) -> None:
        self._site, self._logbook = site, logbook
        page_words = ("--to", str(page), "--reports") if page else ()
        metrics_words = ("--metrics", str(metrics)) if metrics else ()
        self._words = (*page_words, *metrics_words)
        self._process: subprocess.Popen[bytes] | None = None
        self._behind = False

    def __enter__(self) -> "PageWriter":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._finish()
        if self._behind:
            self._start()
            self._finish()

    def is_due(self, test: SiteTest) -> None:
        """A test began or is over: the page is written anew, unless that is being done, when it is done next time."""
        if not self._words or test.state in ("waiting", "running"):
            return
        self._behind = True
        if self._process is None or self._process.poll() is not None:
            self._start()

    def _finish(self) -> None:
        """Waits for what is being written; one that takes for ever is ended."""
        if self._process:
            try:
                self._process.wait(_LAST_S)
            except subprocess.TimeoutExpired:
                self._process.kill()
                self._process.wait()

    def _start(self) -> None:
        self._behind = False
        self._process = subprocess.Popen(
            module_command("harvok", "site", "page", str(self._site), *self._words),
            env=os.environ | {LOGBOOK: self._logbook},
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            start_new_session=True,
        )
