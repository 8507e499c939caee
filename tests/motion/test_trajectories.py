"""Trajectories against their closed forms, and lines of a tool."""

from __future__ import annotations

import math
import unittest
from functools import partial
from typing import Any

import numpy as np

import veldrain as vd
from tests.motion.arms import sampling_arm, two_bars
from veldrain.motion.trajectories import JOINT_TRAJECTORY
from veldrain.recording.messages import to_bytes, typestore

POSTURE = np.array([0, 0.3, 0.9, 0, 0.5, 0])


def through(points: Any, **limits: Any) -> vd.Trajectory:
    return vd.Trajectory.through(points, **limits)


class Profiles(unittest.TestCase):
    def test_durations(self) -> None:
        """Trapezoid: d/v + v/a, or 2·√(d/a) where v is not reached. S-curve: d/v + v/a + a/j where both limits are
        reached, d/v + 2·√(v/j) without the largest acceleration, 4·∛(d/2j) with neither."""
        cases = [
            (2.0, 1.0, 2.0, None, 2.0 + 0.5),
            (0.1, 1.0, 2.0, None, 2 * math.sqrt(0.05)),
            (3.0, 1.0, 2.0, 10.0, 3.0 + 0.5 + 0.2),
            (3.0, 1.0, 2.0, 3.0, 3.0 + 2 * math.sqrt(1 / 3)),
            (0.1, 1.0, 2.0, 3.0, 4 * (0.1 / 6.0) ** (1 / 3)),
            # v is not reached, a is: v = −a²/2j + √((a²/2j)² + a·d), T = 2·(v/a + a/j)
            (0.3, 5.0, 2.0, 10.0, 2 * ((-0.2 + math.sqrt(0.04 + 0.6)) / 2 + 0.2)),
        ]
        for d, v, a, j, duration in cases:
            with self.subTest(d=d, v=v, a=a, j=j):
                path = through([[1.0], [1.0 + d]], speed=v, acceleration=a, jerk=j)
                self.assertAlmostEqual(path.duration, duration, delta=1e-9)
                most = path.extremes().iloc[0]
                self.assertLessEqual(most["speed"], v * (1 + 1e-9))
                self.assertLessEqual(most["acceleration"], a * (1 + 1e-9))
                self.assertLessEqual(most["jerk"], (j or math.inf) * (1 + 1e-9))
                for time, end in ((0.0, 1.0), (path.duration, 1.0 + d)):
                    q, rate, _ = path.at(time)
                    self.assertAlmostEqual(q[0], end, delta=1e-9)
                    self.assertAlmostEqual(rate[0], 0.0, delta=1e-9)

    def test_quintic_and_cubic_with_given_velocities(self) -> None:
        """At rest in both points a quintic peaks at 15/8·d/T, 10/√3·d/T² and 60·d/T³, a cubic at 3/2·d/T and 6·d/T²."""
        rest, d = [[0.0], [0.0]], 1.3
        for v, a, j in ((1.0, 9.0, 99.0), (9.0, 2.0, 99.0), (9.0, 9.0, 20.0)):
            path = through([[0.0], [d]], speed=v, acceleration=a, jerk=j, velocities=rest)
            T = max(15 / 8 * d / v, math.sqrt(10 / math.sqrt(3) * d / a), (60 * d / j) ** (1 / 3))
            self.assertAlmostEqual(path.duration, T, delta=1e-9)
        path = through([[0.0], [d]], speed=1.0, acceleration=9.0, velocities=rest)
        self.assertAlmostEqual(path.duration, max(1.5 * d, math.sqrt(6 * d / 9)), delta=1e-9)
        path = through(
            [[0, 0], [1, 0.5], [2, 0]], speed=1, acceleration=2, jerk=30, velocities=[[0, 0], [0.8, 0], [0, 0]]
        )
        q, v, a = path.at(path.knots)
        np.testing.assert_allclose(q, [[0, 0], [1, 0.5], [2, 0]], atol=1e-9)
        np.testing.assert_allclose(v, [[0, 0], [0.8, 0], [0, 0]], atol=1e-9)
        np.testing.assert_allclose(a, 0, atol=1e-9)

    def test_joints_in_step_and_scale(self) -> None:
        path = through([[0, 1], [2, 0]], speed=[1, 2], acceleration=3, joints=["a", "b"])
        half = through([[0, 1], [2, 0]], speed=[1, 2], acceleration=3, scale=0.5)
        self.assertAlmostEqual(half.duration, 2 * path.duration)
        for t in np.linspace(0, path.duration, 9):
            q = path.at(t)[0]
            self.assertAlmostEqual(q[1], 1 - q[0] / 2)
            np.testing.assert_allclose(half.at(2 * t)[0], q, atol=1e-12)

    def test_stops_and_blends(self) -> None:
        corners = np.array([[0, 0], [1, 0], [1, 1], [2, 1]], float)
        stops = through(corners, speed=1, acceleration=2)
        self.assertAlmostEqual(stops.duration, 3 * 1.5)
        np.testing.assert_allclose(stops.at(1.5)[0], (1, 0), atol=1e-12)
        for jerk in (None, 20.0):
            path = through(corners, speed=1, acceleration=2, jerk=jerk, blend=0.05)
            most = path.extremes()
            times = np.linspace(0, path.duration, 4001)
            q, v, _ = path.at(times)
            with self.subTest(jerk=jerk):
                self.assertLess(path.duration, stops.duration)
                self.assertLessEqual(most["speed"].max(), 1 + 1e-9)
                self.assertLessEqual(most["acceleration"].max(), 2 + 1e-9)
                self.assertLessEqual(most["jerk"].max(), (jerk or math.inf) * (1 + 1e-9))
                self.assertGreater(np.abs(v[200:-200]).max(axis=1).min(), 0.1)  # it does not stop
                for corner in corners:
                    self.assertLess(np.abs(q - corner).max(axis=1).min(), 0.051)
                self.assertLess(np.abs(np.diff(q, axis=0)).max(), 1.01 * path.duration / 4000)

    def test_before_and_after_it_stands_still(self) -> None:
        path = through([[0.0], [1.0]], speed=1, acceleration=2)
        for time, end in ((-1.0, 0.0), (path.duration, 1.0), (9.0, 1.0)):
            q, v, a = path.at(time)
            self.assertEqual((q[0], v[0], a[0]), (end, 0, 0))
        joined = path.then(through([[1.0], [0.0]], speed=1, acceleration=2))
        self.assertAlmostEqual(joined.duration, 2 * path.duration)
        self.assertAlmostEqual(joined.at(path.duration)[0][0], 1.0)

    def test_table_and_message_there_and_back(self) -> None:
        path = through([[0, 0], [1, -1]], speed=1, acceleration=2, jerk=9, joints=["a", "b"])
        table = path.to_frame("50 ms")
        self.assertEqual(list(table)[:3], ["time", "a.position", "b.position"])
        self.assertAlmostEqual(table["time"].iloc[-1], path.duration)
        for k, row in table.iterrows():
            if k < len(table) - 1:
                self.assertAlmostEqual(row["a.velocity"], path.at(row["time"])[1][0])
        message = path.message("5 ms")
        sent = typestore().deserialize_cdr(to_bytes(JOINT_TRAJECTORY, message.fields), JOINT_TRAJECTORY)
        back = vd.Trajectory.of_message(sent)
        self.assertEqual(back.joints, ("a", "b"))
        for t in np.linspace(0, path.duration, 50):
            np.testing.assert_allclose(back.at(t)[0], path.at(t)[0], atol=1e-6)

    def test_a_plot_shows_all_joints_and_their_limits(self) -> None:
        chain = vd.Chain(two_bars(), "tip")
        figure = vd.plot(through([[0, 0], [1, -1]], speed=1, acceleration=2, joints=chain), chain=chain)
        position, velocity, acceleration = figure.axes
        self.assertEqual([len(ax.lines) for ax in (position, velocity, acceleration)], [2 + 4, 2, 2])
        self.assertEqual(position.get_ylabel(), "position (rad)")
        with self.assertRaisesRegex(vd.VeldrainError, "int cannot be plotted"):
            vd.plot(3)  # type: ignore[arg-type]

    def test_bad_input(self) -> None:
        two, more = [[0.0], [1.0]], {"speed": 1, "acceleration": 1}
        path = through(two, **more)
        chain = vd.Chain(two_bars(), "tip")
        cases = [
            (lambda: through([[0.0]], **more), "two points or more"),
            (lambda: through([[0.0], [math.nan]], **more), "point 2 is not finite"),
            (lambda: through([[0.0], [0.0]], **more), "points 1 and 2 are the same"),
            (lambda: through("ab", **more), "no numbers"),
            (lambda: through(two, speed=0, acceleration=1), "limits of speed.*above zero"),
            (lambda: through(two, speed=[1, 2], acceleration=1), "limits of speed"),
            (lambda: through(two, speed="3 kg", acceleration=1), "not a speed"),
            (lambda: through(two, **more, scale=0), "scale of 0"),
            (lambda: through(two, **more, velocities=[[0.0]]), "two points or more"),
            (lambda: through(two, **more, velocities=[[2.0], [0.0]]), "above the limit of speed of joint 1"),
            (lambda: through(two, **more, joints=["a", "b"]), "2 names for 1 joints"),
            (lambda: through([[0, 0], [4, 0]], **more, joints=chain), "q1: 229.2° is outside"),
            (lambda: vd.Trajectory.of([0, 0], two), "let times grow"),
            (lambda: vd.Trajectory.of([0], two), "give one for each"),
            (lambda: path.to_frame(0), "period of 0 s"),
            (lambda: path.then(path), "a gap of 1"),
            (lambda: path.then(through(two, **more, joints=["x"])), "other joints"),
        ]
        for act, words in cases:
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                act()


class ToolLines(unittest.TestCase):
    chain: vd.Chain

    @classmethod
    def setUpClass(cls) -> None:
        cls.chain = vd.Chain(sampling_arm(), "tool")

    def test_a_straight_line_at_a_speed(self) -> None:
        start = self.chain.forward(POSTURE)
        way = np.array([0, 0.2, -0.1])
        path = vd.Trajectory.straight(
            self.chain, [start.position + way], start=POSTURE, speed="0.2 m/s", acceleration="1 m/s^2"
        )
        length = np.linalg.norm(way)
        self.assertAlmostEqual(path.duration, length / 0.2 + 0.2, delta=1e-9)
        times = np.linspace(0, path.duration, 400)
        q, v, _ = path.at(times)
        at, axes = self.chain.forward(q)
        along = (at - start.position) @ way / length
        np.testing.assert_allclose(at - start.position, along[:, None] * way / length, atol=1e-6)
        np.testing.assert_allclose(axes, np.broadcast_to(start.matrix, axes.shape), atol=1e-6)
        tip = np.einsum("nij,nj->ni", self.chain.jacobian(q)[:, :3], v)
        self.assertLess(np.linalg.norm(tip, axis=1).max(), 0.2 * 1.002)

    def test_a_line_that_meets_a_limit_says_which(self) -> None:
        """The shoulder is given its limit a little beyond the posture where the line begins."""
        model = sampling_arm()
        way = self.chain.forward(POSTURE).position + (0, 0.2, -0.1)
        free = vd.Trajectory.straight(self.chain, [way], start=POSTURE, speed=0.2)
        q = free.at(np.linspace(0, free.duration, 50))[0]
        joint = self.chain.joints[0]
        model.change_joint(joint, limits=(-3, float(q[25, 0])) if q[-1, 0] > q[0, 0] else (float(q[25, 0]), 3))
        limit = math.degrees(float(q[25, 0]))
        with self.assertRaisesRegex(vd.VeldrainError, f"% of line 1 {joint} meets its limit of {limit:.4g}°"):
            vd.Trajectory.straight(vd.Chain(model, "tool"), [way], start=POSTURE, speed=0.2)

    def test_an_arc(self) -> None:
        start = self.chain.forward(POSTURE).position
        centre = start + (-0.1, 0, 0)
        path = vd.Trajectory.arc(self.chain, centre + (0, 0.1, 0), centre + (-0.1, 0, 0), start=POSTURE, speed=0.1)
        at, _ = self.chain.forward(path.at(np.linspace(0, path.duration, 200))[0])
        np.testing.assert_allclose(np.linalg.norm(at - centre, axis=1), 0.1, atol=1e-5)
        np.testing.assert_allclose(at[-1], centre + (-0.1, 0, 0), atol=1e-5)

    def test_an_arm_of_two_joints_draws_lines_in_any_direction(self) -> None:
        """Two bars of a plane reach a point and have no joint left for the direction of their tip."""
        bars, start = vd.Chain(two_bars(), "tip"), np.array((0.4, 1.2))
        begin = bars.forward(start).position
        goal = begin + (-0.1, 0, 0.15)
        line = partial(vd.Trajectory.straight, bars, [goal], start=start, speed=0.1)
        path = line(tolerance=("1 um", None))
        at, _ = bars.forward(path.at(np.linspace(0, path.duration, 100))[0])
        np.testing.assert_allclose(np.cross(at - begin, goal - begin), 0, atol=2e-6)
        np.testing.assert_allclose(at[-1], goal, atol=2e-6)
        with self.assertRaisesRegex(vd.VeldrainError, "not in this direction.*2 joints cannot.*tolerance=.*None"):
            line()

    def test_says_where_a_line_cannot_be_had(self) -> None:
        start = self.chain.forward(POSTURE).position
        slow = sampling_arm()
        for joint in list(slow.joints.values()):
            if joint.kind != "fixed":
                slow.change_joint(joint.name, speed=0.05)
        line = vd.Trajectory.straight
        bars = vd.Chain(two_bars().change_joint("q2", limits=(-3.1, -0.1)), "tip")
        cases = [
            (lambda: line(self.chain, [(2, 0, 0)], start=POSTURE, speed=0.2), r"leaves reach at \d+ % of line 1"),
            (lambda: line(self.chain, [start], start=POSTURE, speed=0.2), "line 1 goes nowhere"),
            (lambda: line(self.chain, [], start=POSTURE, speed=0.2), "empty path"),
            (lambda: line(self.chain, [start + 0.1], start=POSTURE, speed=0), "speed is 0"),
            (lambda: line(self.chain, [start + 0.1], start=[9] * 6, speed=1), "outside"),
            (
                lambda: line(vd.Chain(slow, "tool"), [start + (0, 0.1, 0)], start=POSTURE, speed=0.3),
                r"at \d+ % of the path joint '\w+' would need",
            ),
            (
                lambda: vd.Trajectory.arc(bars, (0.6, 0, 0), (0.7, 0, 0), start=(0.7, -1.4), speed=1),
                "on a line|jump|reach",
            ),
        ]
        for act, words in cases:
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                act()


if __name__ == "__main__":
    unittest.main()
