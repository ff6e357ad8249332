"""Keen Horizon: steadies shaky footage and shows what it costs in picture."""

__version__ = "0.1.0"
