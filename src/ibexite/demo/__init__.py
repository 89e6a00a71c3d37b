"""The example project: the control board of the made-up FM-2 snow-depth gauge."""
