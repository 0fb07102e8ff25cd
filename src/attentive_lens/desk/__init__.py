"""What a person does, whichever face they use: open, train, watch, stop, score, ask why.

`front` is light and lives in the faces' processes; `tasks`, `training` and `worker` compute, and are imported only
by the resident worker, the training child and the command line's own commands.
"""
