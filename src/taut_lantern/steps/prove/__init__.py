"""Prove: what is looked at and accepted."""
