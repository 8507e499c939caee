"""What standing still asks of a robot's motors."""

from __future__ import annotations

from collections.abc import Sequence

from veldrain.physics.engine import Engine

STIFFER = 30.0  # times as stiff as they are, so that it stays in its posture


def asked_of_motors(engine: Engine, robot: str, joints: Sequence[str], steps: int) -> dict[str, float]:
    """Efforts (N or N·m) that motors need where it stands, by joint, as though they were strong enough.

    The engine is one of its own: its motors stay as they are made here, until its state is restored.
    """
    plant = engine.plant
    held = [engine.compiled.robots[robot].joints[name] for name in joints]
    plant.dofs["limit"][held] = 1e12
    plant.dofs["stiffness"][held] *= STIFFER
    plant.dofs["gain"][held] *= STIFFER
    friction = plant.geoms["surface"][:, 0].copy()
    plant.geoms["surface"][:, 0] = 0.0  # feet that grip could take a part of it, until the first step
    try:
        engine.advance(steps)
    finally:
        engine.plant.geoms["surface"][:, 0] = friction
    return dict(zip(joints, abs(engine.plant.dofs["effort"][held]).tolist(), strict=True))
