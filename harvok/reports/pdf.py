"""A report as PDF: numbered pages, tables whose rows are never cut and whose heads stand on every page."""

from pathlib import Path
from typing import TYPE_CHECKING

from harvok.reports.document import Report, Table

if TYPE_CHECKING:
    from fpdf import FPDF

_INK, _SOFT, _LINE = (28, 39, 51), (93, 107, 121), (213, 220, 227)
_VERDICT_INK = {"ACCEPT": (26, 127, 78), "REJECT": (179, 38, 30), "RETEST": (154, 103, 0)}
_TEXT, _SMALL, _TITLE = 9, 7, 15
_LINE_MM = 4.6
_MIN_COLUMN, _MAX_COLUMN = 6, 46  # letters


def pdf(report: Report) -> bytes:
    """The whole report, plots included."""
    page = _new_document(report)
    page.add_page()
    page.set_font(size=_TITLE, style="B")
    page.multi_cell(0, 8, report.title, new_x="LMARGIN", new_y="NEXT")
    if report.verdict:
        page.set_text_color(*_VERDICT_INK[report.verdict])
        page.multi_cell(0, 8, report.verdict, new_x="LMARGIN", new_y="NEXT")
        page.set_text_color(*_INK)
        _say(page, report.reason)
    if report.drawing:
        page.set_font("mono", size=_SMALL)
        page.multi_cell(0, 3.4, "\n".join(report.drawing), new_x="LMARGIN", new_y="NEXT")
        page.set_font("text", size=_TEXT)
    _table(page, Table("What was measured, by whom and on what", ["", ""], [list(fact) for fact in report.facts]))
    if report.findings:
        rows = [[finding.verdict, finding.where, finding.reason, finding.advice] for finding in report.findings]
        _table(page, Table("Criteria and results, worst first", ["verdict", "of", "reason", "what next"], rows))
    for remark in report.remarks:
        _say(page, f"look at: {remark}")
    for table in report.tables[:1]:
        _table(page, table)
    for picture in report.pictures:
        _picture(page, picture.data)
    for table in report.tables[1:]:
        _table(page, table)
    return bytes(page.output())


def _new_document(report: Report) -> "FPDF":
    import matplotlib as mpl
    from fpdf import FPDF

    made = f"{report.made:%Y-%m-%d %H:%M} UTC by {report.operator} with Harvok {report.version}"

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
    page.multi_cell(0, _LINE_MM, text, new_x="LMARGIN", new_y="NEXT")


def _table(page: "FPDF", table: Table) -> None:
    """Columns as wide as their text needs, within bounds."""
    page.ln(3)
    if page.will_page_break(25):
        page.add_page()
    page.set_font("text", size=11, style="B")
    page.multi_cell(0, 7, table.title, new_x="LMARGIN", new_y="NEXT")
    page.set_font("text", size=_SMALL)
    lines = [table.header, *table.rows]
    widths = [max(len(line[at]) for line in lines) for at in range(len(table.header))]
    widths = [min(max(width, _MIN_COLUMN), _MAX_COLUMN) for width in widths]
    has_head = any(table.header)
    with page.table(
        col_widths=tuple(widths),
        line_height=3.6,
        borders_layout="HORIZONTAL_LINES",
        first_row_as_headings=has_head,
        text_align="LEFT",
        padding=0.6,
    ) as grid:
        for line in lines if has_head else table.rows:
            row = grid.row()
            for cell in line:
                row.cell(cell)
    page.set_font("text", size=_TEXT)


def _picture(page: "FPDF", png: bytes) -> None:
    import io

    page.ln(2)
    page.image(io.BytesIO(png), w=page.epw)
