"""What a pause says: facts, headline, calls, terms, values."""
