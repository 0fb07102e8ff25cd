"""The inner loops: matrix products over gathered blocks, and compiled loops where they pay."""
