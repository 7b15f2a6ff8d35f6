"""A stand-in network: SNMP agents, their traffic, faults, and a mail sink. The product never imports it."""
