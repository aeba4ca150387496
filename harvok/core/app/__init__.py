"""Application traffic: what users do, and what became of it."""
