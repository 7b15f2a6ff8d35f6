"""Flows: who talks to whom, with what, and how much; records of exporters as arrays, and totals of them."""
