"""The parts of the Close-up, split by reason to change.  `screens/closeup.py` puts them together."""
