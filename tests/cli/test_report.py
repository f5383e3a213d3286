"""`bavlo report`: one page that needs nothing else, in words, in a browser and on paper."""

import base64
import hashlib
import json
import re
import shutil
import subprocess
from html.parser import HTMLParser

import numpy as np
import pytest

from support import run

BROWSER = shutil.which("chromium")
FLAGS = """--headless --no-sandbox --disable-gpu --disable-quic --no-first-run
--enable-logging=stderr --disable-background-networking
--disable-component-update --disable-sync""".split()
HOSTILE = '<img src=x onerror="document.title=1">$\\alpha'


class Reader(HTMLParser):
    """Tags, links and the rows of tables of a page."""

    VOID = ("meta", "br", "input", "link", "img", "hr")

    def __init__(self, text):
        super().__init__()
        self.open, self.tags, self.links, self.rows, self.labels = [], [], [], [], []
        self.feed(text)
        assert self.open == []

    def handle_starttag(self, tag, attrs):
        attrs = dict(attrs)
        self.tags.append(tag)
        self.links += [attrs[name] for name in ("href", "src") if name in attrs]
        if tag == "tr":
            self.rows.append([])
        if attrs.get("role") == "img":
            self.labels.append(attrs["aria-label"])
        if tag not in self.VOID:
            self.open.append(tag)

    def handle_startendtag(self, tag, attrs):
        self.tags.append(tag)

    def handle_data(self, data):
        if self.open and self.open[-1] == "td":
            self.rows[-1].append(data)

    def handle_endtag(self, tag):
        if tag not in self.VOID:
            assert self.open.pop() == tag, tag


@pytest.fixture(scope="module")
def folder(demo, tmp_path_factory):
    """Tables of several sorts, and a study that was run."""
    folder = tmp_path_factory.mktemp("report")
    for path in demo.iterdir():
        if path.suffix == ".nc" or path.name in ("watersheds.geojson", "study.toml"):
            (folder / path.name).symlink_to(path)
    few = ["--regions", "watersheds.geojson", "--only", "Ombrel", "--only", "T*"]
    run("series", "rain_*.nc", *few, "--every", "month,year", "--out", "rain.csv", cwd=folder)
    run("anomalies", "rain_*.nc", *few, "--every", "season", "--during", "2018", "--out",
        "anomalies.csv", cwd=folder)  # fmt: skip
    run("trends", "tmax_*.nc", *few, "--every", "year", "--unit", "degC", "--out", "warming.csv",
        cwd=folder)  # fmt: skip
    run("report", "rain.csv", "anomalies.csv", "warming.csv", "--title", "A <b>page</b>", "--out",
        "page.html", cwd=folder)  # fmt: skip
    return folder


def test_a_page_needs_nothing_else_and_is_well_formed(folder):
    text = (folder / "page.html").read_text()
    page = Reader(text)
    for link in page.links:
        assert link.startswith(("#", "data:")), link
    text = text.replace("http-equiv", "")
    assert "http" not in re.sub(r'xmlns(:\w+)?="[^"]*"', "", re.sub(r"<pre>.*?</pre>", "", text,
                                                                    flags=re.DOTALL))  # fmt: skip
    assert "A &lt;b&gt;page&lt;/b&gt;" in text
    assert len(page.labels) == page.tags.count("figure") >= 4
    assert page.tags.count("h1") == 1
    assert all("region" in label for label in page.labels)
    ids = re.findall(r'\bid="([^"]+)"', text)
    assert len(ids) == len(set(ids))


def test_findings_are_what_the_tables_hold(folder):
    text = (folder / "page.html").read_text()
    import csv

    with (folder / "warming.csv").open(newline="") as file:
        for row in csv.DictReader(file):
            said = f"{row['region']}, year: {float(row['slope']):+.3g} degC per decade"
            assert (said in text) == (float(row["p_adjusted"]) < 0.05)
    with (folder / "anomalies.csv").open(newline="") as file:
        rows = [row for row in csv.DictReader(file) if row["period"] == "2018-SON"]
    assert rows
    for row in rows:
        from_end = min(float(row["rank"]), float(row["ranked_of"]) + 1 - float(row["rank"]))
        stands_out = from_end <= 3 or abs(float(row["score"])) >= 1.5
        assert (f"<li>{row['region']}, 2018-SON:" in text) == stands_out


def test_downloads_are_the_files_and_long_tables_are_cut(folder):
    text = (folder / "page.html").read_text()
    found = re.search(r'href="data:text/csv;base64,([^"]+)" download="rain.csv"', text)
    assert base64.b64decode(found[1]) == (folder / "rain.csv").read_bytes()
    rows = [row for row in Reader(text).rows if row]
    assert 0 < len(rows) <= 2000 * 3
    count = sum(row[0] == "Ombrel" and "month" in row for row in rows)
    assert count == 360


def test_what_is_too_large_is_linked_and_more_rows_are_said(folder):
    names = ["--only", "[A-N]*"]
    run("series", "rain_*.nc", "--regions", "watersheds.geojson", *names, "--every", "day",
        "--during", "1991..2010", "--out", "days.json", cwd=folder)  # fmt: skip
    run("report", "days.json", "--out", "small.html", cwd=folder)
    text = (folder / "small.html").read_text()
    assert '<a href="days.json">days.json</a>' in text
    assert "Of 51,135 rows; the download has all." in text
    assert 0 < len([row for row in Reader(text).rows if row]) <= 2000


def test_a_study_is_one_page_with_a_section_for_each_table_and_map(demo, tmp_path):
    text = (demo / "report.html").read_text()
    assert "<h1>The Sorrel Coast, year by year</h1>" in text
    assert text.count("<section") == 6
    assert "Rain, percent of normal, December 2020: a map of 17 regions." in text
    assert text.count('<img alt="" src="data:image/png;base64,') == 1
    assert len(text) < 3e6
    again = tmp_path / "again.html"
    run("report", "study.toml", "--out", again, cwd=demo)
    assert again.read_text() == text


def test_what_is_no_table_is_refused_and_a_study_that_was_not_run(folder, tmp_path):
    done = run("report", folder / "rain_1991-2000.nc", "--out", tmp_path / "a.html", check=False)
    assert "is no table that Bavlo wrote" in done.stderr
    (tmp_path / "s.toml").write_text((folder / "study.toml").read_text())
    done = run("report", tmp_path / "s.toml", "--out", tmp_path / "a.html", check=False)
    assert "none of its tables has been made; `bavlo run" in done.stderr
    done = run("report", folder / "rain.csv", "--out", tmp_path / "a.csv", check=False)
    assert "use one of: .html .htm" in done.stderr
    assert not (tmp_path / "a.html").exists()


@pytest.fixture
def hostile(folder, tmp_path):
    """A page of regions whose names would do harm."""
    collection = json.loads((folder / "watersheds.geojson").read_text())
    for n, feature in enumerate(collection["features"]):
        feature["properties"] = {"name": f"{HOSTILE}{n}</script>"}
    (tmp_path / "h.geojson").write_text(json.dumps(collection))
    rain = folder / "rain_1991-2000.nc"
    run("series", rain, "--regions", tmp_path / "h.geojson", "--every", "year", "--out",
        tmp_path / "h.csv")  # fmt: skip
    run("report", tmp_path / "h.csv", "--out", tmp_path / "h.html")
    return tmp_path / "h.html"


def test_hostile_names_are_shown_as_they_stand(hostile):
    text = hostile.read_text()
    assert "<img" not in text
    rows = Reader(text).rows
    assert any(row and row[0].startswith(HOSTILE) for row in rows)


def opened(page, script, folder):
    """The title that a script gives a page after it was loaded, and what the browser complains."""
    probe = folder / "probe.html"
    digest = base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()
    text = page.read_text().replace("script-src ", f"script-src 'sha256-{digest}' ")
    text = text.replace("</body>", f"<script>{script}</script></body>")
    probe.write_text(text)
    done = subprocess.run(
        [BROWSER, *FLAGS, f"--user-data-dir={folder / 'profile'}", "--virtual-time-budget=3000",
         "--dump-dom", probe.as_uri()],
        capture_output=True, text=True, check=True, timeout=120,
    )  # fmt: skip
    complaints = [line for line in done.stderr.splitlines() if "CONSOLE" in line]
    return re.search(r"<title>(.*?)</title>", done.stdout)[1], complaints


@pytest.mark.slow
@pytest.mark.skipif(BROWSER is None, reason="there is no Chromium here")
def test_tables_sort_and_filter_in_a_browser(folder, tmp_path):
    script = """
const table = document.querySelectorAll("table")[0];
const head = Array.from(table.tHead.rows[0].cells).findIndex((c) => c.textContent === "value");
const button = table.tHead.rows[0].cells[head].querySelector("button");
button.click(); button.click();
const values = Array.from(table.tBodies[0].rows, (r) => r.cells[head].dataset.v)
  .filter((v) => v !== "").map(Number);
const sorted = values.every((v, n) => n === 0 || values[n - 1] >= v);
const input = document.querySelector("input[type=search]");
input.value = "ombrel"; input.dispatchEvent(new Event("input"));
const shown = Array.from(table.tBodies[0].rows).filter((r) => !r.hidden);
document.title = [sorted, values.length, shown.length,
  shown.every((r) => r.textContent.includes("Ombrel")),
  table.tHead.rows[0].cells[head].getAttribute("aria-sort")].join(" ");
"""
    title, complaints = opened(folder / "page.html", script, tmp_path)
    order, values, shown, only, sorting = title.split()
    assert (order, only, sorting) == ("true", "true", "descending")
    assert 0 < int(shown) < int(values)
    assert complaints == []


@pytest.mark.slow
@pytest.mark.skipif(BROWSER is None, reason="there is no Chromium here")
def test_hostile_names_do_not_run_and_a_page_prints(hostile, tmp_path):
    script = "document.title = document.querySelectorAll('img').length + ' images'"
    title, complaints = opened(hostile, script, tmp_path)
    assert title == "0 images"
    assert complaints == []
    paper = tmp_path / "page.pdf"
    subprocess.run(
        [BROWSER, *FLAGS, f"--user-data-dir={tmp_path / 'profile'}", f"--print-to-pdf={paper}",
         hostile.as_uri()],
        capture_output=True, check=True, timeout=120,
    )  # fmt: skip
    assert paper.read_bytes().startswith(b"%PDF")
    boxes = np.array(
        [float(n) for box in re.findall(rb"/MediaBox \[([^\]]+)\]", paper.read_bytes())
         for n in box.split()]
    ).reshape(-1, 4)  # fmt: skip
    np.testing.assert_allclose(boxes[:, 2:], [[595, 842]] * len(boxes), atol=2)  # A4
