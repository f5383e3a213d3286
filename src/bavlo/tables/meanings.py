"""What the columns of tables mean, in a sentence each: for pages that stand alone."""

from __future__ import annotations

from bavlo.tables.group import AnyTable

MEANINGS = {
    "region": "Name of the region, as in its file.",
    "period": "Label of the period, such as 2013-03, 2013-JJA or 2012/13; of normals and trends "
    "that of the period of the year.",
    "start": "First day, included.",
    "end": "Last day, included.",
    "variable": "What was measured.",
    "measure": "How the cells of a region became one number; mean is weighted by shared area.",
    "value": "The number, in the unit beside it. An empty cell is a missing value; zero is zero.",
    "unit": "Unit of the value.",
    "combine": "How the steps of a period were put together: total, mean, min or max.",
    "order": "region: each step was measured over the region, then combined; cell: each cell was "
    "combined over the period, then measured.",
    "area_valid": "Share of the region's area that has data, 0 to 1.",
    "steps": "Steps that have a value in the region; they may be fractions where a step is shared.",
    "steps_expected": "Steps that a whole period has.",
    "note": "Why a value is empty, in a few words.",
    "calendar": "Calendar of the data, where it is not the Gregorian one.",
    "weight": "What cells weigh by besides their shared areas.",
    "level": "Which values of further dimensions were chosen.",
    "every": "The sort of the period.",
    "x": "Longitude of the cell that holds the value.",
    "y": "Latitude of the cell that holds the value.",
    "base": "Years that the normal is taken from.",
    "statistic": "Statistic over the base; in comparisons, of the pairs of values a and b.",
    "years": "Years of the base that went in; of return levels the return period.",
    "window": "Number of periods, up to the one named, that the value is of.",
    "normal": "Mean of the same period over the base (WMO-No. 1203).",
    "std": "Standard deviation over the base, with n - 1.",
    "anomaly": "Value minus normal.",
    "percent_of_normal": "Value in percent of its normal, of totals only.",
    "score": "Anomaly divided by std, or the standardised precipitation index; see score_kind.",
    "score_kind": "standard: anomaly / std; spi: standardised precipitation index.",
    "rank": "Place among all like periods of the record, 1 being the lowest.",
    "ranked_of": "How many like periods were ranked.",
    "condition": "The test of each step.",
    "tested_on": "cell: each cell is tested and the mean over the area is taken; region: the "
    "region's own series is tested.",
    "count": "What is told of the condition: days, longest spell, total, …",
    "event": "Number of the event in its region.",
    "peak": "Highest value of the event, or the lowest of a cold or dry one.",
    "peak_on": "Day of the peak.",
    "total": "Sum over the event.",
    "total_unit": "Unit of the sum.",
    "area_share": "Largest share of the region's area that met the condition.",
    "open": "Whether the event runs on beyond the record or a gap.",
    "lower": "Lower end of the interval.",
    "upper": "Upper end of the interval.",
    "method": "How it was estimated.",
    "n": "How many values, pairs or years it is made of.",
    "first": "First year with a value.",
    "last": "Last year with a value.",
    "slope": "Change in ten years.",
    "confidence": "Confidence of the interval.",
    "p_value": "Probability of such a trend, or a larger one, where there is none.",
    "p_adjusted": "The same after Benjamini and Hochberg over all regions.",
    "autocorrelation": "What was done about values that follow those before them.",
    "a": "The first source of the pair.",
    "b": "The second source; bias and errors are b - a.",
    "lowest": "Lowest value of all sources.",
    "lowest_source": "The source that has it.",
    "highest": "Highest value of all sources.",
    "highest_source": "The source that has it.",
    "range": "Highest minus lowest.",
    "apart": "The source farthest from the median of the others.",
    "class": "Name or code of the class.",
}


def meanings_of(table: AnyTable) -> list[tuple[str, str]]:
    """The columns of a table that have a meaning of their own, each with it."""
    return [(name, MEANINGS[name]) for name in table.header if name in MEANINGS]
