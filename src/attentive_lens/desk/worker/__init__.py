"""The process that does short work for the window, and both ends of its pipe."""
