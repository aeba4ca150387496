"""The tests of a site whose turn has come, in PostgreSQL, for whichever coordinator takes them.

The queue is procrastinate's: it gives each test to one coordinator alone, wakes those that wait, and knows by their
heartbeats which of them are gone. Its event loop has a thread of its own.
"""

import asyncio
import logging
import threading
from collections.abc import Callable, Coroutine
from contextlib import suppress
from datetime import datetime
from typing import Any, Self, TypeVar

import sqlalchemy as sa

from harvok.core.site.outcome import AND, SiteTest
from harvok.errors import LogbookError, UsageError
from harvok.logbook.places import without_password

try:
    import procrastinate
    from procrastinate.exceptions import AlreadyEnqueued, ProcrastinateException
    from procrastinate.jobs import DeleteJobCondition, Job, Status
except ImportError as error:
    raise UsageError(
        "sharing the work of a site needs the packages psycopg and procrastinate",
        "Install them: pip install 'harvok[postgresql]'.",
    ) from error

_AT_ONCE = 16
"""How many tests one coordinator runs at one time."""
_HEARTBEAT_S, _GONE_S = 5.0, 20.0
_ANSWER_S = 15.0
_AGAIN_S = 5.0
ResultT = TypeVar("ResultT")


class SharedWork:
    """The queue of one site. `work` runs one test that this coordinator took; it is called in threads."""

    def __init__(
        self, place: str, site: str, version: str, work: Callable[[SiteTest], None], notice: Callable[[str], None]
    ) -> None:
        """Work is taken from planners that have the same `version` of the site's file."""
        self._task, self._queue = f"harvok site {site}", f"harvok site {site} {version}"
        self._work, self._notice = work, notice
        for name in ("procrastinate", "psycopg"):  # what goes wrong is said once, in a sentence
            logging.getLogger(name).setLevel(logging.CRITICAL)
        url = sa.make_url(place).set(drivername="postgresql").render_as_string(hide_password=False)
        self._app = procrastinate.App(connector=procrastinate.PsycopgConnector(conninfo=url, timeout=_ANSWER_S))
        self._app.task(name=self._task, queue=self._queue)(self._take)
        self._loop = asyncio.new_event_loop()
        self._ready, self._ending = threading.Event(), False
        self._worker: asyncio.Task[None] | None = None
        self._thread = threading.Thread(target=self._run, name="site-work", daemon=True)

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        """Takes no more work, and waits for the tests that are under way here."""
        self._ending = True
        self._loop.call_soon_threadsafe(self._end)
        self._thread.join()

    # --- what the planner does ---------------------------------------------------------------------------------

    def hand_over(self, test: SiteTest) -> None:
        """A test's turn has come. Raises LogbookError, as all of these do."""
        # the second of two tests at one far end would wait, whatever had gone wrong in planning
        lock, once = f"{self._task} {test.far}", f"{self._task} {_key(test)}"
        job = self._app.configure_task(self._task, queue=self._queue, lock=lock, queueing_lock=once)
        with suppress(AlreadyEnqueued):
            self._ask(job.defer_async(**_told(test)))

    def take_back(self) -> None:
        """What was handed over and nobody took yet is handed over no longer."""
        for job in self._ask(self._app.job_manager.list_jobs_async(task=self._task, status=Status.TODO.value)):
            if job.id is not None:
                self._ask(self._app.job_manager.cancel_job_by_id_async(job.id, delete_job=True))

    def under_way(self) -> list[SiteTest]:
        """The tests that coordinators have taken and not ended, those of lost ones among them."""
        found = self._ask(self._app.job_manager.list_jobs_async(task=self._task, status=Status.DOING.value))
        return [_test(job) for job in found]

    def lost(self) -> list[SiteTest]:
        """The tests whose coordinator is gone; each is told once."""
        manager = self._app.job_manager
        found = list(self._ask(manager.get_stalled_jobs(task_name=self._task, seconds_since_heartbeat=_GONE_S)))
        for job in found:
            self._ask(manager.finish_job(job, Status.FAILED, delete_job=True))
        return [_test(job) for job in found]

    def _ask(self, what: Coroutine[Any, Any, ResultT]) -> ResultT:
        if not self._ready.wait(_ANSWER_S):
            what.close()
            raise LogbookError("the queue in the logbook cannot be reached", "Nothing new begins until it is back.")
        asked = asyncio.run_coroutine_threadsafe(what, self._loop)
        try:
            return asked.result(_ANSWER_S)
        except AlreadyEnqueued:
            raise
        except (ProcrastinateException, TimeoutError) as error:
            asked.cancel()
            raise LogbookError(
                f"the queue in the logbook cannot be reached: {error}", "Nothing new begins until it is back."
            ) from error

    # --- the thread of the event loop --------------------------------------------------------------------------

    def _run(self) -> None:
        asyncio.set_event_loop(self._loop)
        self._worker = self._loop.create_task(self._serve())
        with suppress(asyncio.CancelledError):
            self._loop.run_until_complete(self._worker)
        self._loop.run_until_complete(self._loop.shutdown_default_executor())
        self._loop.close()

    def _end(self) -> None:
        if self._worker:
            self._worker.cancel()

    async def _serve(self) -> None:
        """Takes work until it is cancelled; goes on when the database is back."""
        away = False
        while not self._ending:
            try:
                async with self._app.open_async():
                    await self._make_tables()
                    if away:
                        self._notice("this coordinator takes work again")
                    away = False
                    self._ready.set()
                    await self._app.run_worker_async(
                        queues=[self._queue],
                        concurrency=_AT_ONCE,
                        fetch_job_polling_interval=1.0,
                        install_signal_handlers=False,
                        update_heartbeat_interval=_HEARTBEAT_S,
                        stalled_worker_timeout=_GONE_S,
                        delete_jobs=DeleteJobCondition.ALWAYS,
                    )
            except Exception as error:  # whatever its driver raises when the database goes away
                if not away:
                    self._notice(f"this coordinator takes no work: {without_password(str(error) or repr(error))}")
                away = True
            self._ready.clear()
            await asyncio.sleep(_AGAIN_S)

    async def _make_tables(self) -> None:
        """procrastinate's own tables, by whichever of several coordinators comes first."""
        if await self._has_tables():
            return
        try:
            await self._app.schema_manager.apply_schema_async()
        except ProcrastinateException:
            if not await self._has_tables():
                raise

    async def _has_tables(self) -> bool:
        row = await self._app.connector.execute_query_one_async("select to_regclass('procrastinate_jobs') as found")
        return row["found"] is not None

    async def _take(self, **told: Any) -> None:
        await asyncio.to_thread(self._work, _test_of(told))


def _told(test: SiteTest) -> dict[str, Any]:
    return {"round": test.round, "near": list(test.near), "far": test.far, "due": test.due.isoformat()}


def _test_of(told: dict[str, Any]) -> SiteTest:
    return SiteTest(told["round"], tuple(told["near"]), told["far"], datetime.fromisoformat(told["due"]))


def _test(job: Job) -> SiteTest:
    return _test_of(job.task_kwargs)


def _key(test: SiteTest) -> str:
    return f"{test.round} {AND.join(test.near)} {test.far} {test.due.isoformat()}"
