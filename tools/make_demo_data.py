"""Makes the demo data: one full made-up year of daily records at Quillmere.  Run it from the project's root."""

from __future__ import annotations

import csv
import datetime
import math
import random
from pathlib import Path

SILL_STORE = 0.48  # the store at which the lake stands at the sill
CASES = Path("src/uneven_sum/demo/cases")


def main() -> None:
    rng = random.Random(2031)
    first = datetime.date(2031, 1, 1)
    wet, store = 0.0, 1.2
    rows = []
    for day in range(365):
        season = 0.5 + 0.5 * math.cos(2 * math.pi * (day - 20) / 365)
        rain = rng.expovariate(1 / (9.0 * (0.35 + season))) if rng.random() < 0.32 + 0.25 * season else 0.0
        if 195 <= day <= 225:
            rain *= 0.08  # the dry spell
        wet = 0.86 * wet + rain
        inflow = 0.35 + 0.085 * wet + 0.9 * season
        evaporation = 0.6 + 3.4 * (1 - season) + rng.uniform(-0.2, 0.2)
        store = 0.95 * store + 0.05 * inflow - 0.009 * evaporation
        stage = round(4.0 + 0.62 * (store - SILL_STORE) + rng.uniform(-0.004, 0.004), 3)
        rows.append((first + datetime.timedelta(day), stage, round(inflow, 3), round(rain, 1), round(evaporation, 2)))
    _write("stage_2031.csv", ("date", "stage_m"), [(r[0], f"{r[1]:.3f}") for r in rows])
    _write("inflow_2031.csv", ("date", "inflow_m3s", "rain_mm", "evaporation_mm"), [(r[0], *r[2:]) for r in rows])
    low = [i for i, r in enumerate(rows) if r[1] < 4.0]
    print("days below the sill:", low[:5], len(low), "stage", min(r[1] for r in rows), max(r[1] for r in rows))


def _write(name: str, head: tuple[str, ...], rows: list[tuple[object, ...]]) -> None:
    with open(CASES / name, "w", newline="") as f:
        writer = csv.writer(f, lineterminator="\n")
        writer.writerow(head)
        writer.writerows(rows)


if __name__ == "__main__":
    main()
