"""A slower car cuts in ahead of the service car on the dike's straight: seen from above, and how near it comes."""

import numpy as np

import veldrain as vd
from veldrain.demo.roads import drive, flat, passenger_car, pilot, rolling, service_car

roads = vd.Roads("straight")
roads.road("straight", [(0, 0), (800, 0)], lanes=(2, 2), width=3.5, shoulder=2, speed="100 km/h")
outer, inner = roads.lane("straight", lane=-2), roads.lane("straight", lane=-1)
top = "70 km/h"

car = service_car(others=["other"])
lidar = vd.SpinningLidar(period="10 Hz", channels=16, azimuths=900, max_range=80)
car.mount("lidar", lidar, on="body", pose=vd.Pose((1.1, 0, 1.6)))
world = flat(roads)
world.place(car, "car", pose=outer.at(20) @ vd.Pose((0, 0, 0.33)), velocity=(top, 0, 0))
other = passenger_car()
world.actor("other", other, route=inner.route(speed="55 km/h"), start=52, joints=rolling(other))

controllers = {"car": {"drive": drive(), "pilot": pilot({"road": "straight", "lane": -2}, top)}}
scenario = vd.Scenario(world, "10 s", controllers=controllers, truth=["car"])
scenario.at("3 s").shift("other", "-3.5 m", within="2.5 s")
scenario.expect("clear of the other", never=vd.touching("car", "other"))
scenario.expect("a second to spare", never=vd.time_to_collision("car", "other") < "1 s")

recording = vd.run(scenario)
gap = recording["car/traffic/gap"]["data"]
seen = vd.match(recording, "car/lidar", "car/boxes").by_range([0, 80])["share"].iloc[0]
passed = recording.outcome["passed"]
print(
    f"{passed}: {gap[np.isfinite(gap)].min():.1f} m at the nearest; the lidar saw it in {100 * seen:.0f} % of its turns"
)
vd.birds_eye(recording, "cut_in.png", follow="car", time="5 s", span=40)
