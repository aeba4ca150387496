"""A report as PDF: numbered pages, tables whose rows are never cut and whose heads stand on every page."""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from harvok.clock import local_words
from harvok.reports.document import Picture, Report, Table

if TYPE_CHECKING:
    from fpdf import FPDF

_INK, _SOFT, _LINE = (28, 39, 51), (93, 107, 121), (213, 220, 227)
_VERDICT_INK = {"ACCEPT": (26, 127, 78), "REJECT": (179, 38, 30), "RETEST": (154, 103, 0)}
_TEXT, _SMALL, _TITLE = 9, 7, 15
_LINE_MM = 4.6
_FIRST_PAGE_LINES = 6
_LISTED_ROWS = 80
_PICTURE_MM = 62
_PADDING_MM, _CELL_MARGIN_MM = 0.6, 2.2


def pdf(report: Report) -> bytes:
    """The whole report: the verdict, the comparison and the main plots on a page each, and the annex."""
    page = _new_document(report)
    _first_page(page, report)
    if report.comparison:
        page.add_page()
        for table in report.comparison:
            _table(page, table)
    if report.pictures:
        page.add_page()
        _pictures(page, report.main_pictures)
    page.add_page()
    _annex(page, report)
    return bytes(page.output())


def _first_page(page: "FPDF", report: Report) -> None:
    page.add_page()
    _heading(page, report.title, _TITLE)
    page.set_text_color(*_VERDICT_INK.get(report.outcome, _INK))
    _heading(page, report.outcome, _TITLE)
    page.set_text_color(*_INK)
    _say(page, report.reason)
    _table(page, Table("The device, and what was asked", ["", ""], [list(fact) for fact in report.front]))
    if report.decided:
        _table(page, report.decided)
    _list(page, "What limited the results", report.limiters, _FIRST_PAGE_LINES)
    if report.drawing:
        page.ln(3)
        page.set_font("mono", size=_SMALL)
        page.multi_cell(0, 3.4, "\n".join(report.drawing), align="L", new_x="LMARGIN", new_y="NEXT")
    _list(page, "What was not tested", report.untested, _FIRST_PAGE_LINES)
    _list(page, "To look at", report.remarks, _FIRST_PAGE_LINES)


def _annex(page: "FPDF", report: Report) -> None:
    _heading(page, "Annex", _TITLE)
    if report.findings:
        rows = [[finding.verdict, finding.where, finding.reason, finding.advice] for finding in report.findings]
        _table(page, Table("Criteria and results, worst first", ["verdict", "of", "reason", "what next"], rows))
    _list(page, "What limited the results", report.limiters[_FIRST_PAGE_LINES:])
    _list(page, "To look at", report.remarks[_FIRST_PAGE_LINES:])
    _list(page, "Notices, conditions that differ, events", report.notices)
    _table(page, Table("Conditions", ["", ""], [list(fact) for fact in report.facts]))
    _pictures(page, report.annex_pictures)
    for table in report.tables:
        (_listing if len(table.rows) > _LISTED_ROWS else _table)(page, table)


def _heading(page: "FPDF", text: str, size: int) -> None:
    page.set_font("text", size=size, style="B")
    page.multi_cell(0, 8 if size == _TITLE else 7, text, align="L", new_x="LMARGIN", new_y="NEXT")


def _list(page: "FPDF", title: str, lines: Sequence[str], at_most: int | None = None) -> None:
    """A line for each, after a title; how many more there are, where only some are shown."""
    if not lines:
        return
    page.ln(2)
    if page.will_page_break(18):
        page.add_page()
    _heading(page, title, 11)
    for line in lines[:at_most]:
        _say(page, f"– {line}")
    if at_most is not None and len(lines) > at_most:
        _say(page, f"– and {len(lines) - at_most} more, in the annex")


def _new_document(report: Report) -> "FPDF":
    import matplotlib as mpl
    from fpdf import FPDF

    made = f"{local_words(report.made)} by {report.operator} with Harvok {report.version}"

    class Pages(FPDF):
        """Every page says what it belongs to."""

        def footer(self) -> None:
            self.set_y(-14)
            self.set_font("text", size=_SMALL)
            self.set_text_color(*_SOFT)
            self.cell(0, 4, f"{made}; {len(report.runs)} runs, SHA-256 {report.digest}", align="L")
            self.set_y(-10)
            self.cell(0, 4, f"page {self.page_no()} of {{nb}}", align="R")
            self.set_text_color(*_INK)

    page = Pages(format="A4")
    page.set_auto_page_break(auto=True, margin=18)
    page.set_title(report.title)
    fonts = Path(mpl.get_data_path()) / "fonts" / "ttf"
    page.add_font("text", fname=fonts / "DejaVuSans.ttf")
    page.add_font("text", style="B", fname=fonts / "DejaVuSans-Bold.ttf")
    page.add_font("mono", fname=fonts / "DejaVuSansMono.ttf")
    page.set_font("text", size=_TEXT)
    page.set_text_color(*_INK)
    page.set_draw_color(*_LINE)
    return page


def _say(page: "FPDF", text: str) -> None:
    page.set_font("text", size=_TEXT)
    page.multi_cell(0, _LINE_MM, text, align="L", new_x="LMARGIN", new_y="NEXT")


def _table(page: "FPDF", table: Table) -> None:
    """Columns as wide as their text needs, within bounds."""
    page.ln(3)
    if page.will_page_break(25):
        page.add_page()
    _heading(page, table.title, 11)
    page.set_font("text", size=_SMALL)
    lines = [table.header, *table.rows]
    has_head = any(table.header)
    with page.table(
        col_widths=_column_widths(page, lines),
        line_height=3.6,
        borders_layout="HORIZONTAL_LINES",
        first_row_as_headings=has_head,
        text_align="LEFT",
        padding=_PADDING_MM,
    ) as grid:
        for line in lines if has_head else table.rows:
            row = grid.row()
            for cell in line:
                row.cell(cell)
    page.set_font("text", size=_TEXT)


def _column_widths(page: "FPDF", lines: Sequence[Sequence[str]]) -> tuple[float, ...]:
    """Each column has room for its longest word, so that none is cut, and of what is left as much as its longest cell
    would like to have. In mm."""
    needed, wanted = [], []
    for head, *cells in zip(*lines, strict=True):
        words = [_width(page, word, False) for cell in cells for word in cell.split()]
        needed.append(max([_width(page, word, True) for word in head.split()] + words, default=0.0))
        longest = max([_width(page, head, True), *(_width(page, cell, False) for cell in cells)])
        wanted.append(min(longest, page.epw / 2))
    spare = max(page.epw - sum(needed), 0.0)
    extra = [max(want - need, 0.0) for want, need in zip(wanted, needed, strict=True)]
    share = min(spare / sum(extra), 1.0) if any(extra) else 0.0
    return tuple(need + more * share for need, more in zip(needed, extra, strict=True))


def _width(page: "FPDF", text: str, is_head: bool) -> float:
    page.set_font("text", style="B" if is_head else "", size=_SMALL)
    return float(page.get_string_width(text)) + 2 * _PADDING_MM + _CELL_MARGIN_MM


def _listing(page: "FPDF", table: Table) -> None:
    """A long table as lines of one width: a page of it takes a hundredth of the time, and no word is cut, since the
    letters are as small as the longest line needs."""
    lines = [table.header, *table.rows]
    widths = [max(len(line[at]) for line in lines) for at in range(len(table.header))]
    texts = ["  ".join(cell.ljust(width) for cell, width in zip(line, widths, strict=True)).rstrip() for line in lines]
    page.ln(3)
    if page.will_page_break(25):
        page.add_page()
    _heading(page, table.title, 11)
    page.set_font("mono", size=_SMALL)
    widest = page.get_string_width(max(texts, key=len))
    size = min(_SMALL, _SMALL * page.epw / widest)
    page.set_font("mono", size=size)
    height = size * 0.5
    for number, text in enumerate(texts):
        if page.will_page_break(height):
            page.add_page()
            page.set_font("mono", size=size)
            page.cell(0, height, texts[0], new_x="LMARGIN", new_y="NEXT")
        page.cell(0, height, text, new_x="LMARGIN", new_y="NEXT", border="B" if number == 0 else 0)
    page.set_font("text", size=_TEXT)


def _pictures(page: "FPDF", pictures: Sequence[Picture]) -> None:
    """Plots beneath each other, as many as fit a page: no smaller than half its height, so that they can be read."""
    import io

    for picture in pictures:
        image = io.BytesIO(picture.data)
        page.ln(2)
        page.image(image, w=page.epw, h=min(_PICTURE_MM, page.eph / 2 - 4), keep_aspect_ratio=True)
