"""Estimated poses, judged by what they say of their own errors."""

from __future__ import annotations

import math
import unittest
from typing import Any

import numpy as np

import veldrain as vd
from tests.check_cases import cart, on_ground
from veldrain.motion.filtering import BIAS, NORTH, YAW, Errors, PoseFilter, X, Y

SIDES = {"left": ["fl", "rl"], "right": ["fr", "rr"]}


def drawn_course(seed: int, errors: Errors, fixes: bool) -> tuple[PoseFilter, np.ndarray, list[float]]:
    """A course whose errors are drawn as the filter is told; gives the filter, the true state, and its surprises."""
    random, dt, steps = np.random.default_rng(seed), 0.1, 300
    x, y, yaw = np.array((1.0, 2.0, 0.3)) + random.standard_normal(3) * errors.start
    bias, scale = random.standard_normal() * errors.bias, random.standard_normal() * errors.radius
    drift = random.standard_normal(2) * errors.drift
    keeps = math.exp(-dt / errors.correlation_time)
    found, surprises = PoseFilter((1.0, 2.0, 0.3), errors), []
    for k in range(steps):
        speed, rate = 0.8, 0.5 * math.sin(0.05 * k)
        gyro = rate + bias + random.standard_normal() * errors.gyro * math.sqrt(errors.gyro_period / dt)
        bias += random.standard_normal() * errors.walk * math.sqrt(dt)
        way = speed * dt * (1 + scale) + random.standard_normal() * errors.slip * math.sqrt(speed * dt)
        x, y, yaw = x + way * math.cos(yaw + rate * dt / 2), y + way * math.sin(yaw + rate * dt / 2), yaw + rate * dt
        drift = keeps * drift + random.standard_normal(2) * errors.drift * math.sqrt(1 - keeps**2)
        found.go(speed, gyro, dt)
        if fixes and k % 5 == 4:
            c, s = math.cos(yaw), math.sin(yaw)
            antenna = np.array((x + 0.3 * c - 0.1 * s, y + 0.3 * s + 0.1 * c))
            noise = random.standard_normal(2) * errors.fix
            surprises.append(found.see(antenna + drift + noise, (0.3, 0.1)))
    return found, np.array((x, y, yaw, bias, scale, *drift)), surprises


class Filtering(unittest.TestCase):
    def test_it_knows_how_far_off_it_is(self) -> None:
        """Over 80 courses the squared normalised error of the pose is χ² of 3 degrees: 3 ± 4·√(6/80) on average."""
        errors = Errors((0.1, 0.1, 0.02), 0.02, 0.02, 0.005, 0.01, 0.003, 1e-4, 0.4, 0.5, 30.0)
        for fixes in (True, False):
            squares, surprises = [], []
            for seed in range(80):
                found, truth, told = drawn_course(seed, errors, fixes)
                off = (found.state - truth)[: YAW + 1]
                squares.append(off @ np.linalg.solve(found.covariance[: YAW + 1, : YAW + 1], off))
                surprises += told
            with self.subTest(fixes=fixes):
                self.assertAlmostEqual(float(np.mean(squares)), 3.0, delta=4 * math.sqrt(6 / 80))
                self.assertAlmostEqual(float(np.mean(np.array(squares) < 7.815)), 0.95, delta=0.09)
            if fixes:
                self.assertAlmostEqual(float(np.mean(surprises)), 2.0, delta=0.1)
                self.assertLess(math.sqrt(found.covariance[BIAS, BIAS]), 0.9 * errors.bias)  # it has learnt the bias
                np.testing.assert_allclose(found.covariance, found.covariance.T, atol=1e-12)

    def test_without_errors_it_is_where_it_is(self) -> None:
        """A circle of radius 2 m without any error closes to rounding, and fixes do not move it."""
        f = PoseFilter((0.0, 0.0, 0.0), Errors(slip=0.0))
        for _ in range(1000):
            f.go(0.4 * math.pi, 0.2 * math.pi, 0.01)
        np.testing.assert_allclose(f.state[[X, Y]], 0.0, atol=1e-12)
        f.see(np.array((5.0, 5.0)))
        np.testing.assert_allclose(f.state[[X, Y, NORTH]], 0.0, atol=1e-12)


class Estimating(unittest.TestCase):
    def trial(self, **words: Any) -> Any:
        """20 s of an S, the cart's wheels 1 % off, its gyro with a bias, fixes of 0.4 m."""
        model = cart().mount("truth", vd.TruePose("20 ms"), on="hull")
        model.mount("wheels", vd.Odometer(**SIDES, wheel_radius=0.1, track=0.52, radius_error=0.01), on="hull")
        model.mount("gyro", vd.Imu("10 ms", gyro_noise="0.3 deg/s", gyro_bias="0.5 deg/s"), on="hull")
        model.mount("sky", vd.Gnss("200 ms", noise="0.4 m"), on="hull", pose=vd.Pose((0.2, 0, 0.2)))
        words = {"odometer": "wheels", "imu": "gyro", "gnss": "sky", "place_errors": (0.01, 0.01, 0.01)} | words
        drive = vd.SkidSteer(SIDES["left"], SIDES["right"], radius=0.1, track=0.4)
        controllers = {"cart": {"drive": drive, "estimate": vd.EstimatePose(**words)}}
        scenario = vd.Scenario(on_ground(model), "20 s", controllers=controllers)
        scenario.at(0).tell("cart/drive", forward=0.4, turning=0.3)
        return vd.run(scenario.at("10 s").tell("cart/drive", forward=0.4, turning=-0.3), seed=4)

    def test_a_trial_is_judged(self) -> None:
        recording = self.trial()
        with_fixes = vd.consistency(recording, "cart/estimate", "cart/truth")
        self.assertEqual(recording.messages["cart/estimate"], "nav_msgs/msg/Odometry")
        self.assertEqual(with_fixes.samples, 1001)
        self.assertLess(with_fixes.position_rms, 0.2)  # half of what a single fix is off
        self.assertGreater(with_fixes.inside, 0.9)
        self.assertLess(with_fixes.normalised, 4.0)
        alone = vd.consistency(self.trial(gnss=None), "cart/estimate", "cart/truth")
        self.assertGreater(alone.position_rms, with_fixes.position_rms)

    def test_mistakes_are_told(self) -> None:
        recording = self.trial(gnss=None)
        for act, said in (
            (lambda: self.trial(odometer="weels"), "no sensor 'weels'.*'wheels'"),
            (lambda: self.trial(imu="sky"), "'sky' is of kind Gnss; name one of kind Imu"),
            (lambda: self.trial(name="truth"), "stream 'cart/truth' is there already"),
            (lambda: vd.consistency(recording, "cart/estimate", "cart/gyro"), "is sensor_msgs/msg/Imu"),
            (lambda: vd.consistency(recording, "cart/truth", "cart/estimate"), "tells no covariance"),
            (lambda: vd.consistency(recording, "cart/estimat", "cart/truth"), "no stream 'cart/estimat'"),
        ):
            with self.subTest(said), self.assertRaisesRegex((vd.VeldrainError, AssertionError), said):
                made = act()
                if isinstance(made, vd.Recording):  # a trial ends, and says why
                    raise AssertionError(made.outcome["reason"])


if __name__ == "__main__":
    unittest.main()
