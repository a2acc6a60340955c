"""Values: found non-finite, described, measured, compared, and cut into pages.  `kinds` has one file a kind."""
