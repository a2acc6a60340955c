"""Parts of the Ledger screen."""
