"""Lumtar: polls the network, keeps its history, says what is wrong and where it started."""

__version__ = "0.1.0"
