"""An audit: rules that look at every operand and result of the user's code, and say where a finite result is wrong."""
