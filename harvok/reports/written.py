"""Reports as files: HTML, PDF, Markdown, CSV, JSON and JUnit XML, one function each; a table finds them by suffix."""

import base64
import csv
import io
import json
import re
from collections.abc import Callable, Iterator
from dataclasses import asdict
from pathlib import Path
from xml.etree import ElementTree

from harvok.clock import local_words
from harvok.core.figures import numbered
from harvok.core.labels import label_text, sort_labels
from harvok.core.models.run import RunRecord
from harvok.core.units import format_quantity
from harvok.errors import UsageError
from harvok.reports.document import PictureKind, Report, Table
from harvok.reports.pdf import pdf

_TIDY = ("run", "started_utc", "state", "series", "quantity", "name", "layer", "unit")


def write_report(report: Report, path: Path) -> None:
    """Writes a report in the form that the file's suffix says. Raises UsageError for a suffix that there is not, or a
    file that cannot be written."""
    form = FORMS.get(path.suffix)
    if not form:
        raise UsageError(f"'{path.suffix}' is no form of a report", f"Forms are {', '.join(FORMS)}.")
    text = form(report)
    try:
        path.write_bytes(text if isinstance(text, bytes) else text.encode())
    except OSError as error:
        raise UsageError(f"{path} cannot be written: {error.strerror}", "Give --to another file.") from error


def html(report: Report) -> str:
    """One page that holds everything, plots included."""
    from jinja2 import Environment, PackageLoader

    pages = Environment(loader=PackageLoader("harvok", "reports"), autoescape=True)
    groups = [
        [(picture, base64.b64encode(picture.data).decode()) for picture in pictures]
        for pictures in (report.main_pictures, report.annex_pictures)
    ]
    return pages.get_template("report.html.j2").render(
        report=report, made=local_words(report.made), pictures=groups[0], annex_pictures=groups[1]
    )


def markdown(report: Report) -> str:
    """The same without plots, for a wiki or a ticket."""
    parts = [f"# {_in_markdown(report.title)}", f"**{report.outcome}**: {_in_markdown(report.reason)}"]
    parts.append(_grid(Table("", ["", ""], [list(fact) for fact in report.front])))
    if report.decided:
        parts.append(f"## {report.decided.title}\n\n{_grid(report.decided)}")
    parts += _bullets("What limited the results", report.limiters)
    if report.drawing:
        parts.append("```\n" + "\n".join(report.drawing).replace("`", "'") + "\n```")
    parts += _bullets("What was not tested", report.untested)
    parts += _bullets("To look at", report.remarks)
    parts += [f"## {table.title}\n\n{_grid(table)}" for table in report.comparison]
    if report.findings:
        rows = [[finding.verdict, finding.where, finding.reason, finding.advice] for finding in report.findings]
        parts.append("## Criteria and results\n\n" + _grid(Table("", ["verdict", "of", "reason", "what next"], rows)))
    parts += _bullets("Notices, conditions that differ, events", report.notices)
    parts.append("## Conditions\n\n" + _grid(Table("", ["", ""], [list(fact) for fact in report.facts])))
    parts += [f"## {table.title}\n\n{_grid(table)}" for table in report.tables]
    made = f"{local_words(report.made)} by {report.operator} with Harvok {report.version}"
    parts.append(f"Made {made}. Digest of {len(report.runs)} records (SHA-256): `{report.digest}`")
    return "\n\n".join(parts) + "\n"


def _bullets(title: str, lines: list[str]) -> list[str]:
    return [f"## {title}\n\n" + "\n".join(f"- {_in_markdown(line)}" for line in lines)] if lines else []


def _grid(table: Table) -> str:
    def line(cells: list[str]) -> str:
        return "| " + " | ".join(map(_in_markdown, cells)) + " |"

    return "\n".join([line(table.header), line(["---"] * len(table.header)), *map(line, table.rows)])


def tidy_csv(report: Report) -> str:
    """One row for each figure of each run; values in the unit of their row."""
    keys = sorted({key for record in report.records for key in record.attributes})
    labels = sort_labels(label for record in report.records for figure in record.figures for label in figure.labels)
    out = io.StringIO()
    rows = csv.writer(out, lineterminator="\n")
    columns = [label.replace("-", "_") for label in labels]
    rows.writerow([*_TIDY, *columns, "value", "mark", *(f"with_{key}" for key in keys)])
    for record in report.records:
        head = [record.id, record.started.strftime("%Y-%m-%dT%H:%M:%SZ"), record.state, _in_csv(record.series or "")]
        attributes = [_in_csv(record.attributes.get(key, "")) for key in keys]
        for figure in record.figures:
            quantity = figure.meaning
            what = [quantity.key, quantity.name, quantity.layer, quantity.unit]
            of = [_in_csv(figure.labels.get(label, "")) for label in labels]
            rows.writerow([*head, *what, *of, repr(figure.value), figure.mark, *attributes])
    return out.getvalue()


def as_json(report: Report) -> str:
    """Verdict, findings and all figures as one document; the whole records come with `harvok logbook export`."""
    figures = [
        {"run": record.id, "series": record.series, "started": record.started.isoformat(), **asdict(figure)}
        for record in report.records
        for figure in record.figures
    ]
    document = {
        "format": "harvok-report",
        "version": 1,
        "title": report.title,
        "verdict": report.verdict,
        "reason": report.reason,
        "made": report.made.isoformat(),
        "operator": report.operator,
        "harvok": report.version,
        "digest": report.digest,
        "runs": report.runs,
        "findings": [asdict(finding) for finding in report.findings],
        "remarks": report.remarks,
        "asked": dict(report.front),
        "limiters": report.limiters,
        "not_tested": report.untested,
        "notices": report.notices,
        "facts": dict(report.facts),
        "figures": figures,
    }
    return json.dumps(document, indent=2, ensure_ascii=False) + "\n"


def junit(report: Report) -> str:
    """One test case for each finding: a REJECT is a failure, a RETEST an error, so that a CI stops at either. Cases are
    named after what is judged and not after what was measured, so that one is the same case next time. Runs, device and
    the figures that stand for each run are properties."""
    counts = {verdict: sum(f.verdict == verdict for f in report.findings) for verdict in ("REJECT", "RETEST")}
    suite = ElementTree.Element(
        "testsuite",
        name=_printable(report.title),
        tests=str(len(report.findings)),
        failures=str(counts["REJECT"]),
        errors=str(counts["RETEST"]),
        skipped="0",
        time=f"{sum(_took_s(record) for record in report.records):.3f}",
        timestamp=f"{report.made:%Y-%m-%dT%H:%M:%S}",
        hostname=_printable(report.records[0].near.name) if report.records else "",
    )
    properties = ElementTree.SubElement(suite, "properties")
    for name, value in _properties(report):
        ElementTree.SubElement(properties, "property", name=_printable(name), value=_printable(value))
    each_s = sum(_took_s(record) for record in report.records) / max(len(report.findings), 1)
    names = numbered(finding.subject for finding in report.findings)
    for finding, name in zip(report.findings, names, strict=True):
        classname = f"harvok.{_printable(report.title)}"
        case = ElementTree.SubElement(
            suite, "testcase", classname=classname, name=_printable(name), time=f"{each_s:.3f}"
        )
        kind = {"REJECT": "failure", "RETEST": "error"}.get(finding.verdict)
        if kind:
            element = ElementTree.SubElement(case, kind, message=_printable(finding.reason), type=finding.verdict)
            element.text = _printable(finding.advice)
        else:
            ElementTree.SubElement(case, "system-out").text = _printable(finding.reason)
    root = ElementTree.Element("testsuites")
    root.append(suite)
    ElementTree.indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ElementTree.tostring(root, encoding="unicode") + "\n"


def _took_s(record: RunRecord) -> float:
    """How long a run took, in seconds; 0 of one that has no end."""
    return (record.ended - record.started).total_seconds() if record.ended else 0.0


def _properties(report: Report) -> Iterator[tuple[str, str]]:
    """What a reader of a CI wants to have beside the cases."""
    yield "verdict", report.verdict or "none"
    yield "harvok", report.version
    yield "operator", report.operator
    yield "digest", report.digest
    yield from ((name, value) for name, value in report.facts)
    for record in report.records:
        yield f"run {record.id}", f"{record.series or 'no series'}, {record.state}"
        for figure in record.figures:
            if figure.meaning.rank == "headline":
                of = f" ({label_text(figure.labels)})" if figure.labels else ""
                value = format_quantity(figure.value, figure.meaning.unit)
                yield f"run {record.id}: {figure.meaning.name}{of}", value


def _printable(text: str) -> str:
    """Without the characters that XML forbids (XML 1.0 §2.2)."""
    return re.sub(r"[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]", "", text)


def _in_markdown(text: str) -> str:
    """A text that means itself in Markdown, on one line: no cell, link, code, emphasis or tag begins in it."""
    one_line = " ".join(text.split())
    return re.sub(r"([\\`*\[\]|])", r"\\\1", one_line).replace("&", "&amp;").replace("<", "&lt;")


def _in_csv(text: str) -> str:
    """A text on one line that no spreadsheet takes for a formula."""
    one_line = re.sub(r"[\x00-\x1f\x7f]", " ", text)
    return f"'{one_line}" if one_line.lstrip().startswith(("=", "+", "-", "@")) else one_line


FORMS: dict[str, Callable[[Report], str | bytes]] = {
    ".html": html,
    ".md": markdown,
    ".csv": tidy_csv,
    ".json": as_json,
    ".xml": junit,
    ".pdf": pdf,
}
"""The form that each suffix stands for."""


PICTURES: dict[str, PictureKind] = {".html": "svg", ".pdf": "png"}
"""The kind of pictures that a form has; the others have none."""


def what_it_rests_on(path: Path) -> tuple[list[str], str]:
    """The run ids and the digest that a written report (HTML or JSON) names. Raises UsageError when it names none."""
    try:
        text = path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise UsageError(f"{path} cannot be read", "Name a report that Harvok wrote, as HTML or JSON.") from error
    runs = re.search(r'<meta name="harvok-runs" content="([^"]*)">', text)
    digest = re.search(r'<meta name="harvok-digest" content="([0-9a-f]{64})">', text)
    if runs and digest:
        return runs[1].split(), digest[1]
    try:
        document = json.loads(text)
        if document["format"] == "harvok-report":
            return [str(run) for run in document["runs"]], str(document["digest"])
    except (ValueError, KeyError, TypeError):
        pass
    raise UsageError(f"{path} names no runs and no digest", "Name a report that Harvok wrote, as HTML or JSON.")
