"""The Findings: what an audit has found."""
