"""Flow export: NetFlow versions 5 and 9 (RFC 3954), IPFIX (RFC 7011) and sFlow version 5, as arrays of records."""
