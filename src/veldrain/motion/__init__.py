"""What can be computed of a model without an engine: kinematics, trajectories, drives, gaits."""
