"""Instruments: profiles that can be read and mended, links that cannot hang, sessions that join the two."""
