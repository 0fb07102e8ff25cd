"""Why a model answers as it does: saliency maps and whether to believe them, channels, neighbours, causes.

`probe.Probe` asks a model, `probe.Targets` says which numbers are explained, `saliency.METHODS` makes maps.
"""
