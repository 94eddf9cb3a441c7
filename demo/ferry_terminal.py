"""Quillport ferry terminal: two supplies, an 11 kV ring of four stations, shore charging and cold-store motors.

The network that the guide draws by hand, built here from Python. Run as a script it writes the document to a file.
"""

from __future__ import annotations

import sys
from itertools import pairwise

from vastmesh.script import Draft

TITLE = "Quillport ferry terminal"


def terminal() -> Draft:
    """The terminal on its main supply, the stand-by supply behind an open switch."""
    net = Draft(TITLE)
    net.bus("Coast 33", 33), net.bus("Terminal 33", 33), net.bus("Terminal 11", 11), net.bus("Harbour 11", 11)
    net.source("Coast 33", name="Main supply", fault_max_mva=850, fault_min_mva=600, x_over_r=8)
    net.source("Harbour 11", name="Stand-by supply", fault_max_mva=160, fault_min_mva=120, x_over_r=6)
    net.add("line_geometry", name="Coast tower", type="Al/St 150", a_x_m=-1.2, a_y_m=10.2, b_x_m=0, b_y_m=11.4, c_x_m=1.2,
            c_y_m=10.2, earth_wires=1, w_y_m=13.5)  # fmt: skip
    net.line("Coast 33", "Terminal 33", name="Coast line", length_km=6, geometry="Coast tower")
    net.transformer("Terminal 33", "Terminal 11", name="T1", rated_mva=10, hv_kv=33, lv_kv=11, impedance_pct=8.5,
                    load_loss_kw=55, iron_loss_kw=9, tap_step_pct=1.25, tap_min=-8, tap_max=8, regulates=True,
                    target_pu=1.01, cooling="ONAN/ONAF", lv_neutral="resistor", lv_neutral_a=1000)  # fmt: skip
    net.bus("Stand-by bay", 11)
    net.switch("Terminal 11", "Stand-by bay", name="Stand-by switch", type="Breaker 12 kV 630 A 20 kA", closed=False)
    net.line("Stand-by bay", "Harbour 11", name="Stand-by cable", length_km=2.4, type="Al 3×185 XLPE 11 kV cable")
    ring = ["Terminal 11", *(f"Station {n}" for n in range(1, 5)), "Terminal 11"]
    for bus in ring[1:-1]:
        net.bus(bus, 11)
    for n, (a, b) in enumerate(pairwise(ring), 1):
        net.line(a, b, name=f"Ring {n}", length_km=0.35, type="Al 3×150 XLPE 11 kV cable")
    opened = net.grow("Ring 3", "switch_at_start")
    net.set(opened, name="Open point", closed=False, type="Load switch 12 kV 630 A")
    for n in range(1, 5):
        station(net, n)
    net.load("Berth bay 1", name="Berth 1", active_power_mw=0.6, power_factor=0.98, demand_class="charging",
             spectrum="Shore converter")  # fmt: skip
    net.load("Berth bay 2", name="Berth 2", active_power_mw=0.6, power_factor=0.98, demand_class="charging",
             spectrum="Shore converter")  # fmt: skip
    net.induction_motor("Berth bay 3", name="Cold store compressors", rated_kw=160, rated_kv=0.4, efficiency_pct=95,
                        power_factor=0.88, starting_current_x=6.5, count=2)  # fmt: skip
    net.lumped("Berth bay 4", name="Harbour workshops", apparent_power_mva=0.45, power_factor=0.9, motor_pct=65,
               impedance_pct=35, demand_class="industrial")  # fmt: skip
    return net


def station(net: Draft, n: int) -> None:
    """A station: its transformer by name plate, the board with an air breaker and a fuse."""
    net.bus(f"Board {n}", 0.4), net.bus(f"Berth bay {n}", 0.4), net.bus(f"Lights bay {n}", 0.4)
    net.transformer(f"Station {n}", f"Board {n}", name=f"TS {n}", type="1000 kVA 11/0.415 kV Dyn11", impedance_pct=6,
                    load_loss_kw=10.5, tap_position=1)  # fmt: skip
    net.switch(f"Board {n}", f"Berth bay {n}", name=f"Berth breaker {n}", type="LV air breaker 1600 A 65 kA")
    net.switch(f"Board {n}", f"Lights bay {n}", name=f"Lights fuse {n}", type="LV fuse gG 250 A")
    net.load(f"Lights bay {n}", name=f"Lights {n}", active_power_mw=0.05, power_factor=0.95, demand_class="commercial")


if __name__ == "__main__":
    terminal().save(sys.argv[1] if len(sys.argv) > 1 else "ferry-terminal.json")
