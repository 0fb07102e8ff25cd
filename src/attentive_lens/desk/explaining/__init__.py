"""Cases, and what can be done about causes."""
