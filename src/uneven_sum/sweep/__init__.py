"""One script over many inputs: which runs go wrong, and which go wrong for one reason."""
