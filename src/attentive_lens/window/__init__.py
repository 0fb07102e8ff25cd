"""The window: the other face of the desk. It paints and asks; it never computes and never stores."""
