"""The ways in which a stand-in is reached: one module for each kind of link."""
