"""Measurements: speed against bare floors, judgement against the simulator's truth."""
