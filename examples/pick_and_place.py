"""The sampling arm finds a jar by its printed label, plans a way, grips it, and sets it on a pedestal.

It needs OpenCV (pip install opencv-contrib-python-headless).
"""

import math

import cv2
import numpy as np

import veldrain as vd
from veldrain.demo.cell import EYE, JAR_HEIGHT, LABEL, PEDESTAL, sampling_arm, sampling_cell

DICTIONARY = cv2.aruco.getPredefinedDictionary(cv2.aruco.DICT_4X4_50)
MARK = np.pad(cv2.aruco.generateImageMarker(DICTIONARY, 7, 600), 100, constant_values=255)
SIDE = LABEL * 600 / 800
UP = np.array((0.0, 0.0, 1.0))
DOWN = vd.Pose(rpy=(math.pi, 0, math.pi))


def found(pixels: np.ndarray) -> np.ndarray:
    """Where the label is in the optical frame, m."""
    detector = cv2.aruco.ArucoDetector(DICTIONARY)
    refined = detector.getDetectorParameters()
    refined.cornerRefinementMethod = cv2.aruco.CORNER_REFINE_SUBPIX
    detector.setDetectorParameters(refined)
    corners, _, _ = detector.detectMarkers(pixels)
    h = SIDE / 2
    square = np.array([(-h, h, 0), (h, h, 0), (h, -h, 0), (-h, -h, 0)])
    return cv2.solvePnP(square, corners[0][0], EYE.matrix, np.zeros(5), flags=cv2.SOLVEPNP_IPPE_SQUARE)[2].ravel()


class PickAndPlace(vd.Script):
    def to(self, q):
        """Plan to joint positions."""
        points = vd.plan(self.known, "arm", start=self.q, goal=q, joints=self.chain.joints, margin="5 mm", seed=1)
        return vd.Trajectory.through(points, speed=1.2, acceleration=4, jerk=60, joints=self.chain)

    def go(self, place, above):
        """Plan to above a place, and come straight down onto it."""
        over = self.chain.inverse(vd.Pose(place + above * UP) @ DOWN, start=self.q, free_axis=(0, 0, 1))
        way = self.to(over.q)
        line = vd.Trajectory.straight(self.chain, [place], start=over.q, speed=0.15, free_axis=(0, 0, 1))
        self.q, self.back = line.at(line.duration)[0], (line, over.q)
        return way.then(line)

    def up(self):
        line = vd.Trajectory.straight(self.chain, [self.chain.forward(self.back[1])], start=self.q, speed=0.15)
        self.q = line.at(line.duration)[0]
        return line

    def grip(self, closed):
        self.motors["gripper/left_slide"].position = 0.04 if closed else 0.0
        return self.wait("0.6 s")

    def script(self):
        model = sampling_arm()
        self.chain = vd.Chain(model, "grip")
        self.known = vd.World().ground().place(model, "arm", fixed=True)
        self.known.obstacle("pedestal", vd.Cylinder(0.09, PEDESTAL[2]), pose=vd.Pose((*PEDESTAL[:2], PEDESTAL[2] / 2)))
        self.q = stowed = np.array([model.postures["stowed"].get(joint, 0.0) for joint in self.chain.joints])
        yield self.until(lambda: self.senses["eye"] is not None)
        label = self.senses.between("eye/optical", "base").apply(found(self.senses["eye"].pixels))
        place = np.array((label[0], label[1], JAR_HEIGHT * 0.6))
        yield self.follow(self.go(place, 0.15))
        yield self.grip(True)
        yield self.follow(self.up())
        yield self.follow(self.go(PEDESTAL + (JAR_HEIGHT * 0.6 + 0.001) * UP, 0.12))
        yield self.grip(False)
        yield self.follow(self.up())
        yield self.follow(self.to(stowed))


def trial(x: float, y: float, yaw: float, record=None) -> tuple[float, vd.Recording]:
    """How far (m) from the middle of the pedestal the jar ends up."""
    world = sampling_cell(x, y, yaw, MARK)
    recording = vd.run(vd.Scenario(world, "16 s", controllers={"arm": PickAndPlace()}), record=record)
    end = recording["jar/truth"].iloc[-1]
    off = np.array((end["x"], end["y"], end["z"])) - (PEDESTAL + JAR_HEIGHT / 2 * UP)
    return float(np.linalg.norm(off)), recording


if __name__ == "__main__":
    random = np.random.default_rng(1)
    for _ in range(2):
        off, recording = trial(random.uniform(0.4, 0.55), random.uniform(0.0, 0.25), random.uniform(-3, 3))
        print(f"{recording.outcome['reason']}: the jar stands {1e3 * off:.1f} mm from the middle of its pedestal")
    vd.look(recording, "pick_and_place.png", layers=["trails"])
