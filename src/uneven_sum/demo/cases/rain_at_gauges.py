"""The rain that the catchments of five gauges take in a year: rain by station, areas by gauge."""

import pandas as pd

rain = pd.DataFrame(
    {
        "station": ["Quillmere", "Upper Fell ", "Long Moor", "Heron Beck ", "Stone Bridge"],
        "rain_mm": [1480.0, 1910.0, 1320.0, 1655.0, 1240.0],
    }
)
areas = pd.DataFrame(
    {
        "station": ["Quillmere", "Upper Fell", "Long Moor", "Heron Beck", "Stone Bridge"],
        "area_km2": [4.2, 11.8, 7.5, 9.1, 15.3],
    }
)

table = rain.merge(areas, on="station")
volume = (table["rain_mm"] * table["area_km2"]).sum() * 1e3
print(f"{len(table)} catchments, {volume:,.0f} m3 of rain")
