"""What every room needs: the run's flags, the transport, signals, text, errors, and what is the agent's own."""
