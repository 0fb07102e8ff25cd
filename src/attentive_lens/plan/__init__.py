"""Every value that decides a run, and the rules of shape, cost and receptive field.

Nothing here computes with images: standard library and NumPy only, so that the window can import it.
"""
