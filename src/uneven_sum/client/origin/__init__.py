"""Where a value came from: the chain of statements that wrote it."""
