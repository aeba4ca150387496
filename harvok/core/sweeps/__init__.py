"""Sweeps: what is varied, and what came of it."""
