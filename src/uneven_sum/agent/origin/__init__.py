"""Where a value came from: runs of the script, in copies of this process, that note the last write of one place."""
