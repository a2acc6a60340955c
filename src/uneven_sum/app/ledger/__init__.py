"""The Ledger (loop trace): the recorded passes of one loop."""
