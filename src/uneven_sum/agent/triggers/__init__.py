"""What pauses a script: non-finite values, warnings, breakpoints, and their settings."""
