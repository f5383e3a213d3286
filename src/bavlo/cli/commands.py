"""The commands, in one table."""

from __future__ import annotations

# Every command, in the order the work goes: its module and what it is for.
COMMANDS = {
    "demo": ("bavlo.cli.demo", "make the demo data and run a worked example on it"),
    "describe": ("bavlo.cli.describe", "say what is in a file, and what Bavlo would do with it"),
    "series": ("bavlo.cli.making", "values by region and period"),
    "normals": ("bavlo.cli.making", "what is usual in each region and period of the year"),
    "anomalies": ("bavlo.cli.making", "how each period stands against its normal"),
    "extremes": ("bavlo.cli.making", "counts of conditions, indices, events, return levels"),
    "compare": ("bavlo.cli.making", "how well sources agree, and where they part"),
    "trends": ("bavlo.cli.making", "slope, interval and significance by period of the year"),
    "grid": ("bavlo.cli.making", "a grid again: joined, cut, combined over periods, as anomaly"),
    "chart": ("bavlo.cli.making", "a figure of a table"),
    "map": ("bavlo.cli.making", "a map of a table or a grid"),
    "trace": ("bavlo.cli.trace", "how one number of a table came to be"),
    "run": ("bavlo.cli.run", "everything that a study file lists; again only what changed"),
    "report": ("bavlo.cli.making", "tables, or all of a study, as one page"),
    "completion": ("bavlo.cli.completion", "completion for bash, zsh or fish"),
    "cache": ("bavlo.cli.cache", "show or clear what is kept between runs"),
}
