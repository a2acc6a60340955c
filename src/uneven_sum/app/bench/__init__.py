"""The parts of the Bench: what it can do, split by reason to change.  `screens/bench.py` puts them together."""
