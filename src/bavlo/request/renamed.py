"""Options of earlier versions: what says the same now, so that old studies and tables are read."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from bavlo.errors import RequestError

# What to say now, by the old name.
NOW = {
    "complete": "say ‹min_steps wmo›",
    "autocorrelation": "say ‹method hamed-rao› or ‹method prewhiten›",
    "touching": "say ‹min_share 0›",
    "whole-years": "say ‹normals_from whole-years›",
    "from-months": "say ‹normals_from months›",
    "names": "give the file as ‹label›",
    "offset": "say ‹scale FACTOR,OFFSET›",
    "weight-kind": "say ‹kind weight=count› or ‹kind weight=state›",
    "at": "say ‹regions LON,LAT›",
    "at-points": "say ‹measure bilinear›",
    "region-crs": "say ‹input_crs regions=CRS›",
    "grid-crs": "say ‹input_crs CRS›",
    "order": "say ‹test_on region› or ‹test_on cell›",
    "no-bootstrap": "count days beyond a percentile, as ‹when tmax > p90›, which has none",
    "checksum": "leave it out: provenance has digests of all that was read",
    "scratch": "set TMPDIR in the environment",
    "follow": "set BAVLO_FOLLOW=1 in the environment",
}
# Of them, those whose value goes over to another option as it is.
SAME = {"complete": "min-steps", "names": "label", "at": "regions"}


def renewed(told: Mapping[str, Any]) -> dict[str, Any]:
    """Options by their names of today.

    Parameters
    ----------
    told
        By name, of a study file or as provenance records them.

    Raises
    ------
    RequestError
        Where they ask for what there is not any more, so that no number changes in silence.
    """
    out = dict(told)
    own = {name: out.pop(name) for name in NOW if name in out and _is_old(name, out)}
    if own.get("no-bootstrap") or ("no-bootstrap" in own and _is_recorded(out)):
        raise RequestError("", "indices without the bootstrap are no more", NOW["no-bootstrap"])
    if own.get("whole-years") and own.get("from-months"):
        raise RequestError(
            "normals_from", "whole-years and months do not go together any more", "choose one"
        )
    if own.get("at-points") == "bilinear" and out.get("measure", "mean") not in ("mean", ["mean"]):
        raise RequestError("measure", "bilinear stands for itself now", "leave out the others")
    out |= {SAME[name]: value for name, value in own.items() if name in SAME}
    if own.get("touching"):
        out["min-share"] = 0
    for name, now in (("whole-years", "whole-years"), ("from-months", "months")):
        if own.get(name):
            out["normals-from"] = now
    if own.get("autocorrelation", "none") != "none" and out.get("method", "sen") == "sen":
        out["method"] = own["autocorrelation"]
    if own.get("at-points") == "bilinear":
        out["measure"] = "bilinear"
    if "order" in own and "return-levels" in out:  # of all else it changed nothing
        out["test-on"] = own["order"]
    if "grid-crs" in own:
        out["input-crs"] = own["grid-crs"]
    if "region-crs" in own:
        _add_own(out, "input-crs", "regions", own["region-crs"])
    if "weight-kind" in own:
        kind = "count" if own["weight-kind"] == "count" else "state"
        _add_own(out, "kind", "weight", kind)
    _join_offsets(out, own.get("offset"))
    return out


def _is_old(name: str, told: Mapping[str, Any]) -> bool:
    """Whether a name is an old one there: some are options of other commands still."""
    command = str(told.get("command", ""))
    if name == "order":
        return command == "extremes"
    return name != "at" or command != "describe"


def _is_recorded(told: Mapping[str, Any]) -> bool:
    """Whether options are as provenance records them, which names the files of grids."""
    return "by_grid" in told or any(isinstance(each, dict) for each in told.get("grids", ()))


def _add_own(out: dict[str, Any], option: str, name: str, value: Any) -> None:
    """Say something of one name only, among what is said of others."""
    if _is_recorded(out):
        field = option.replace("-", "_")
        out["by_grid"] = [*out.get("by_grid", ()), [field, name, value]]
        return
    said = out.get(option, [])
    out[option] = [*([said] if isinstance(said, str) else said), f"{name}={value}"]


def _join_offsets(out: dict[str, Any], offset: Any) -> None:
    """Factors and offsets that were two options, of all grids and of one each."""
    by_grid = [list(each) for each in out.get("by_grid", ())]
    offsets = {grid: value for field, grid, value in by_grid if field == "offset"}
    if offsets:
        scales = {grid: value for field, grid, value in by_grid if field == "scale"}
        others = [each for each in by_grid if each[0] not in ("scale", "offset")]
        joined = {
            grid: [scales.get(grid, 1.0), offsets.get(grid, 0.0)] for grid in {**scales, **offsets}
        }
        out["by_grid"] = [*others, *(["scale", grid, pair] for grid, pair in joined.items())]
    if offset is None:
        return
    if isinstance(offset, int | float):
        out["scale"] = f"{out.get('scale', 1.0)},{offset}"
        return
    scales, added = _by_name(out.get("scale", ())), _by_name(offset)
    out["scale"] = [
        f"{name}{scales.get(name, '1')},{added.get(name, '0')}" for name in {**scales, **added}
    ]


def _by_name(texts: Any) -> dict[str, str]:
    """`NAME=` (or nothing) and the text after it, of one text or several."""
    parts = [str(text).rpartition("=") for text in ([texts] if isinstance(texts, str) else texts)]
    return {name + sign: value for name, sign, value in parts}
