"""Juxtum puts a manufactured part beside its drawing."""

__version__ = "0.1.0"
