"""Hosts without Harvok: a page that any browser can measure with, and what the station counts of it."""
