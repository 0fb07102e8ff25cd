"""How fast the engine runs on this machine."""
