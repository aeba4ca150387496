"""For --json: standard output carries the records alone, one a line; notices go to standard error."""

from rich.console import Console

from harvok.core.models.run import RunRecord
from harvok.core.observer import Observer
from harvok.logbook.exchange import encode_record


class RecordsOnly(Observer):
    """Prints each record as it is finished, and says notices elsewhere."""

    def __init__(self, out: Console, aside: Console) -> None:
        self.records: list[RunRecord] = []
        self._out = out
        self._aside = aside

    def notice(self, text: str) -> None:
        self._aside.print(f"note {text}", soft_wrap=True)

    def record(self, record: RunRecord) -> None:
        """One finished run, whole or broken."""
        self.records.append(record)
        self._out.file.write(encode_record(record) + "\n")
        self._out.file.flush()

    def close(self) -> None:
        """Nothing is left to say."""
