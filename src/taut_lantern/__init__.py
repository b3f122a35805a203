"""Taut Lantern: register terrestrial scans, prove that they fit, and hand over drawings and clouds."""

__version__ = "0.1.0"
