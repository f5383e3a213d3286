"""`bavlo run`."""

from __future__ import annotations

import contextlib
from pathlib import Path

from bavlo.cli.parsing import Parser
from bavlo.cli.screen import Screen, shown
from bavlo.errors import InputError, OutputError, RequestError

EXAMPLES = """examples on the demo data (made by `bavlo demo`):
  bavlo run sorrel/study.toml --check
  bavlo run --new mine.toml "sorrel/rain_*.nc" sorrel/watersheds.geojson
"""
MOST_LINES = 3  # of what a result says


def parser(command: str) -> Parser:
    """The command line of `bavlo run`."""
    options = Parser(
        "run",
        description="Everything that a study file lists, and again only what changed. Files in it\n"
        "are named from its own folder. One failing result does not stop the others; the exit\n"
        "status is 1 then.",
        epilog=EXAMPLES,
        usage="bavlo run STUDY.toml [options]\n       bavlo run --new STUDY.toml FILE…",
    )
    options.add_argument("study", metavar="STUDY.toml", nargs="?", help="a study file")
    options.add_argument("files", metavar="FILE", nargs="*", help="grids and regions, with --new")
    options.add_argument("--new", metavar="STUDY.toml", help="write a study file for some files")
    options.add_argument("--check", action="store_true", help="say what would be made, and why")
    options.add_argument(
        "--only", metavar="NAME", action="append", default=[],
        help="only this result and those that it is made of; repeatable",
    )  # fmt: skip
    options.add_argument("--replace", action="store_true", help="write over files of others")
    options.add_argument("--jobs", metavar="N", help="workers (default: the usable processors)")
    options.add_argument("--memory", metavar="SIZE", help="most memory to use (default: 1GB)")
    options.add_argument("--quiet", action="store_true", help="only what failed")
    options.add_argument("--verbose", action="store_true", help="tell every choice")
    return options


def run(command: str, arguments: list[str]) -> int:
    """Run `bavlo run`."""
    given = parser(command).read(arguments)
    if given["new"]:
        return _new(given)
    if given["study"] is None:
        raise RequestError("", "no study file was named", "see `bavlo run --help`")
    if given["files"]:
        raise RequestError("", f"{given['files'][0]}: one study is run", "give one file")
    from bavlo.jobs.ledger import StudyRun
    from bavlo.jobs.run import FAILED, check_study, run_study
    from bavlo.request.filling import make_request
    from bavlo.request.study import read_study

    path = Path(given["study"]).expanduser()
    study = read_study(path)
    resources = make_request("series", {"jobs": given["jobs"], "memory": given["memory"]}).run
    wanted = StudyRun(study, path.stem, resources, tuple(given["only"]), given["replace"])
    screen = Screen(quiet=given["quiet"], verbose=given["verbose"])
    failed = 0
    with contextlib.chdir(path.parent):
        if not given["quiet"]:
            print(shown(study.title))
        try:
            outcomes = check_study(wanted) if given["check"] else run_study(wanted, screen)
            for outcome in outcomes:
                screen.close()
                failed += outcome.state == FAILED
                if outcome.state == FAILED or not given["quiet"]:
                    _say(outcome)
        finally:
            screen.close()
    if failed:
        print(f"{failed} of {len(study.results)} results failed; what they had made before stays")
    screen.finish()
    return 1 if failed else 0


def _say(outcome: object) -> None:
    """What became of a result."""
    from bavlo.jobs.run import MADE, Outcome

    assert isinstance(outcome, Outcome)
    head = f"  {outcome.name}: {outcome.state}"
    if outcome.state == MADE:
        head += f" in {outcome.seconds:.1f} s, since {outcome.why}"
    elif outcome.why:
        head += f": {outcome.why}"
    print(shown(head))
    for line in outcome.summary[:MOST_LINES]:
        print(f"    {shown(line)}")


def _new(given: dict[str, object]) -> int:
    """Write a study file."""
    from bavlo.files import whole_files
    from bavlo.jobs.new_study import new_study
    from bavlo.jobs.writing import check_outputs

    files = [text for text in (given["study"], *_texts(given["files"])) if isinstance(text, str)]
    if not files:
        raise InputError("--new", "no file was named", "give grids and a file of regions")
    path = Path(str(given["new"])).expanduser()
    if path.suffix != ".toml":
        raise OutputError(path, "is no .toml", "give its name that ending")
    check_outputs([path], replace=bool(given["replace"]))
    text = new_study(path, files)
    with whole_files([path], replace=bool(given["replace"])) as drafts:
        drafts[path].write_text(text, encoding="utf-8")
    print(f"wrote {path}; read it, change it, and `bavlo run {path}`")
    return 0


def _texts(value: object) -> list[str]:
    return list(value) if isinstance(value, list) else []
