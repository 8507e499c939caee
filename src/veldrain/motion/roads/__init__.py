"""Roads: their lines, lanes and junctions, found by place, driven along, and made into surfaces."""

from veldrain.motion.roads.network import Roads, Spot
from veldrain.motion.roads.road import Junction, Lane, OnLane, Road, Section

__all__ = ["Junction", "Lane", "OnLane", "Road", "Roads", "Section", "Spot"]
