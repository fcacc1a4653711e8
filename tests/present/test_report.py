"""The report: everything in it, nothing that it would load, nothing of a capture taken for markup."""

import hashlib
import re
from html.parser import HTMLParser
from xml.etree import ElementTree as ET

import pytest
from hypothesis import given
from hypothesis import strategies as st

import larkreader as lr
from larkreader.declare.document.sheet_text import toml_value
from larkreader.demo.service import make_service, write_service
from larkreader.harmless import harmless
from larkreader.present.notebook import html_of
from larkreader.present.report.content import make_report
from larkreader.present.report.render import escape_markdown, plain, render_html, render_markdown

VOID = {"meta", "br", "img", "input", "hr", "link"}
TEXTS = "html head meta title style body header main nav section h1 h2 h3 p span a pre div details summary"
OURS = {*TEXTS.split(), "table", "caption", "thead", "tbody", "tr", "th", "td"}
ATTRIBUTES = {"lang", "charset", "content", "name", "class", "id", "href", "open"}
HOSTILE = "<script>alert(1)</script>&\"'</td>"
SHEET = """sheet = 1
title = {title}
[line]
baud = 9600
[wire.{wire}]
signal = "a"
note = {title}
[frame.{frame}]
boundary = {{ kind = "marker", marker = "A6" }}
fields = [
  {{ name = "said", type = "text", repeat = 24 }},
  {{ name = "of", type = "uint8", unit = {title}, names = {{ {title} = 1 }} }},
]
"""


class Page(HTMLParser):
    """Reads a page: its elements, that they are closed in order, their text, and what they refer to."""

    def __init__(self, page):
        super().__init__()
        self.open, self.elements, self.text, self.refers = [], [], [], []
        self.feed(page)
        self.close()

    def handle_starttag(self, tag, attributes):
        self.elements.append((tag, dict(attributes)))
        self.refers += [value for name, value in attributes if name in ("src", "href", "xlink:href", "action", "data")]
        if tag not in VOID:
            self.open.append(tag)

    def handle_startendtag(self, tag, attributes):
        self.handle_starttag(tag, attributes)
        self.open = self.open[:-1] if tag not in VOID else self.open

    def handle_endtag(self, tag):
        assert self.open.pop() == tag

    def handle_data(self, data):
        self.text.append(data)


@pytest.fixture(scope="module")
def rig_page(rig_files, tmp_path_factory):
    """Write the report of the rig by the command."""
    from larkreader.cli import run

    target = tmp_path_factory.mktemp("report") / "rig.html"
    assert run(["report", str(rig_files["sheet"]), str(rig_files["capture"]), "-o", str(target)]) == 1
    return target.read_text(encoding="utf-8")


def test_a_page_has_all_in_it_and_loads_nothing(rig_page, rig_files):
    page = Page(rig_page)
    assert page.open == []
    assert all(one.startswith("#") for one in page.refers)
    anchors = {attributes.get("id") for _, attributes in page.elements}
    assert {one[1:] for one in page.refers if not one.startswith("#m") and len(one) > 1} <= anchors
    assert "script" not in {tag for tag, _ in page.elements}
    assert "url(http" not in rig_page
    assert "default-src 'none'" in rig_page
    text = " ".join(" ".join(page.text).split())
    reading = lr.read(rig_files["sheet"], rig_files["capture"])
    for finding in reading.findings:
        assert finding.text in text
        assert finding.advice in text
    for path in (rig_files["sheet"], rig_files["capture"]):
        assert hashlib.sha256(path.read_bytes()).hexdigest() in text
    assert f"Lark Reader {lr.__version__}" in text
    assert sum(tag == "svg" for tag, _ in page.elements) == sum(tag == "figure" for tag, _ in page.elements) > 10
    faulty = sum(int((frames.faults != 0).sum()) for frames in reading.frames.values())
    found = [attributes for tag, attributes in page.elements if tag == "details" and attributes.get("name") == "frame"]
    assert len(found) == faulty + 2 * len(reading.frames)
    assert sum("open" in attributes for attributes in found) == 1


def test_places_are_all_of_a_finding(rig_files):
    """Four parity errors are listed one by one: where the characters with that fault are."""
    reading = lr.read(rig_files["sheet"], rig_files["capture"])
    characters = reading.characters["from_pump"]
    offsets = [int(one) for one in (characters.faults & lr.Fault.PARITY).nonzero()[0]]
    report = make_report(reading, with_figures=False)
    listed = next(
        one for one in report.findings if one.finding.kind == "parity-error" and one.finding.wire == "from_pump"
    )
    assert [int(re.search(r"character ([\d,]+)", one)[1].replace(",", "")) for one in listed.places] == offsets


@given(
    st.text(
        st.characters(exclude_categories=["Cs"]).filter(lambda letter: harmless(letter) == letter),
        min_size=1,
        max_size=20,
    ).filter(str.strip),
    st.binary(min_size=24, max_size=24),
)
def test_nothing_of_a_sheet_or_a_capture_is_markup(name, declared):
    """Whatever names and contents are: the page has the elements that a harmless one has, and their text is there."""
    names = (toml_value(one + name) for one in ("", "w", "f"))
    sheet = lr.parse_sheet(SHEET.format(**dict(zip(("title", "wire", "frame"), names, strict=True))))
    frame = b"\xa6" + declared.replace(b"\xa6", b"\xa7") + b"\x01"
    report = make_report(lr.read(sheet, {"w" + name: lr.Characters.from_bytes(frame * 2)}))
    page = Page(render_html(report))
    assert {tag for tag, _ in page.elements} <= OURS
    assert {one for _, attributes in page.elements for one in attributes} <= {*ATTRIBUTES, "http-equiv"}
    assert " ".join(plain(name).split()) in " ".join(" ".join(page.text).split())
    markdown = render_markdown(report)
    assert "\x00" not in markdown
    assert not re.search(r"(?<!\\)<", markdown)


def test_hostile_text_is_shown_as_it_is():
    sheet = lr.parse_sheet(SHEET.format(title=toml_value(HOSTILE), wire="w", frame="f"))
    reading = lr.read(sheet, {"w": lr.Characters.from_bytes((b"\xa6" + HOSTILE.encode()[:24].ljust(24) + b"\x01") * 2)})
    page = render_html(make_report(reading))
    assert "<script" not in page
    assert HOSTILE in "".join(Page(page).text)
    assert "\\<script\\>" in render_markdown(make_report(reading))
    for shown in (sheet, sheet.frame["f"], reading, reading.findings, reading.frames["f"], reading.characters["w"]):
        assert "<script" not in shown._repr_html_()


@pytest.mark.parametrize(
    ("text", "shown"),
    [("a\x00b", "a\u2039NUL\u203ab"), ("\r\n", "\u2039CR\u203a\n"), ("\u202etxt", "\\u202etxt"), ("\u240a", "\u2039LF\u203a"),
     ("\x7f\x85", "\u2039DEL\u203a\\u0085"), ("Grün", "Grün")],
)  # fmt: skip
def test_what_is_invisible_is_shown(text, shown):
    assert plain(text) == shown


def test_markdown_is_taken_for_text():
    assert escape_markdown("a|b *c* <d> [e](f) `g`\nh") == r"a\|b \*c\* \<d\> \[e\](f) \`g\` h"


def test_markdown_with_its_figures(shell, rig_files, tmp_path):
    """Tables have one number of cells a row; every figure that is named is there, and is a drawing."""
    target = tmp_path / "rig.md"
    status, out, err = shell("report", rig_files["sheet"], rig_files["capture"], "--markdown", "-o", target)
    assert (status, out) == (1, "")
    text = target.read_text(encoding="utf-8")
    names = re.findall(r"\]\((rig_figures/[^)]+)\)", text)
    assert len(names) == len(list((tmp_path / "rig_figures").iterdir())) > 10
    for name in names:
        assert ET.parse(tmp_path / name).getroot().tag.endswith("svg")
    for table in re.findall(r"(?:^\|.*\n)+", text, re.MULTILINE):
        assert len({len(re.findall(r"(?<!\\)\|", row)) for row in table.splitlines()}) == 1
    assert f"its {len(names)} figures" in err
    status, out, _ = shell("report", rig_files["sheet"], rig_files["capture"], "--markdown", "-o", "-")
    assert out.startswith("# Dosing rig")
    assert "rig_figures" not in out
    assert shell("report", rig_files["sheet"], rig_files["capture"], "-o", "-")[0] == 2
    assert shell("report", rig_files["sheet"], rig_files["capture"], "-o", rig_files["sheet"])[0] == 2
    assert rig_files["sheet"].read_text(encoding="utf-8").startswith("sheet = 1")


def test_a_report_of_both_directions_has_pairs(tmp_path, monkeypatch, shell, rig_files):
    files = write_service(tmp_path, make_service())
    monkeypatch.setenv("SOURCE_DATE_EPOCH", "1800000000")
    pages = []
    folder = rig_files["sheet"].parent
    for name, sheet, capture in (
        ("one.html", *files.values()),
        *(("two.html", folder / "history.toml", folder / "history.vcd"),) * 2,
    ):
        shell("report", sheet, capture, "-o", tmp_path / name)
        pages.append((tmp_path / name).read_text(encoding="utf-8"))
    assert pages[1] == pages[2]  # the same page each time
    text = " ".join(" ".join(Page(pages[0]).text).split())
    assert "2027-01-15 08:00:00 UTC" in text
    assert "value 55 48 3 1 3 0 5" in text
    assert "#41 again: no reply" in text


def test_bytes_without_times_make_a_report_too(shell, rig_files, tmp_path):
    target = tmp_path / "bytes.html"
    status, _, _ = shell("report", rig_files["sheet"], rig_files["delivered"], "--wire", "from_pump", "-o", target)
    assert status == 1
    assert "fields of status" in target.read_text(encoding="utf-8").replace("The fields", "fields")


def test_notebooks_show_tables(rig_files):
    """Head and first ten rows of columns with their units; a row a finding; the loopback's own table."""
    reading = lr.read(rig_files["sheet"], rig_files["capture"])
    found = {one: Page(one._repr_html_()) for one in (reading.frames["status"], reading.findings[0])}
    for page in found.values():
        assert page.open == []
    frames, finding = found.values()
    assert sum(tag == "tr" for tag, _ in frames.elements) == 11
    assert {"mL/min", "kPa", "degC"} <= set(frames.text)
    assert "... and 185 more" in frames.text
    assert reading.findings[0].advice in finding.text
    assert sum(tag == "tr" for tag, _ in Page(reading.findings._repr_html_()).elements) == 1 + len(reading.findings)
    assert sum(tag == "tr" for tag, _ in Page(reading.characters["to_pump"][:3]._repr_html_()).elements) == 4
    assert Page(reading.characters["to_pump"][:0]._repr_html_()).open == []
    assert "57600 8E1" in reading.sheet._repr_html_()
    result = lr.run_loopback(lr.SimulatedPort(reading.sheet.line, lambda data: data), lr.LoopbackPlan(characters=64))
    assert "pass: returned unchanged" in result._repr_html_()
    assert html_of(7) == "<pre>7</pre>"
