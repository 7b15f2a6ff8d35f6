"""The collector: polls devices, computes readings, stores them, watches rules."""
