"""The flow receiver: what exporters send, from socket to stored totals."""
