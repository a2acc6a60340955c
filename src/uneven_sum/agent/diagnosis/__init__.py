"""Why a value is bad: the terms of a statement, the culprit, where the value came from, and the reason."""
