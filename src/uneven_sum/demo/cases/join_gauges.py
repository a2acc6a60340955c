"""Runoff coefficient of the basin above Quillmere, from the rain gauge and the inflow gauge."""

from pathlib import Path

import pandas as pd

HERE = Path(__file__).parent
AREA = 38.0e6  # m2, of the basin
DAY = 86_400.0  # s


def read_gauges(path):
    """Inflow by date, and rain by the hour at which the gauge was read."""
    table = pd.read_csv(path, parse_dates=["date"])
    inflow = table[["date", "inflow_m3s"]].set_index("date")
    rain = table[["date", "rain_mm"]].copy()
    rain["date"] = rain["date"] + pd.Timedelta(hours=9)  # the gauge is read at nine
    return inflow, rain.set_index("date")


def coefficient(inflow, rain):
    """Share of the rain that reaches the lake, month by month."""
    both = inflow.join(rain)
    both["runoff_mm"] = both["inflow_m3s"] * DAY / AREA * 1000.0
    both["month"] = both.index.month
    sums = both.groupby("month")[["rain_mm", "runoff_mm"]].sum()
    return sums["runoff_mm"] / sums["rain_mm"]


def main():
    inflow, rain = read_gauges(HERE / "inflow_2031.csv")
    print(f"{len(inflow)} days of inflow, {len(rain)} of rain")
    share = coefficient(inflow, rain)
    print(share.round(2).to_string())


main()
