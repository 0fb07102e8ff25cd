"""What the desk can be asked, and what it answers: one frozen dataclass each, by family; all of them in ``table``.

Nothing here computes, so that the window can name them without loading what does. A request is carried out by the
function of the same name in ``desk/tasks``; arrays in results say their shape and dtype.
"""
