"""What all screens use: keys, their labels and help, themes, paths."""
