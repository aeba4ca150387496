"""Harvok decides, with evidence, whether network equipment carries what it is rated for."""

__version__ = "0.2.0"
