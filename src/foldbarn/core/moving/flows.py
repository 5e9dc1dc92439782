"""Fair shares of disks and ports among copies under way.

Max-min fairness by progressive filling (Bertsekas and Gallager, "Data Networks", section 6.5.2): all flows
rise together until a resource is full; its flows stay there and the others rise on.
"""

from __future__ import annotations

import numpy as np

from foldbarn.core.arrays import Ints, Reals


def max_min_rates(routes: Ints, capacities: Reals) -> Reals:
    """Rate of each flow, [flows], in the unit of the capacities.

    routes: [flows, hops] resource rows that a flow uses, as often as it uses them: a row that stands twice
    carries twice the flow's rate; -1 to fill up. capacities: [resources] >= 0. No resource is exceeded, and
    no flow can rise without another, no faster one, falling.
    """
    flows = len(routes)
    rates = np.zeros(flows)
    if not flows:
        return rates
    uses = np.zeros((flows, len(capacities)), dtype=np.int64)
    flow, hop = np.nonzero(routes >= 0)
    np.add.at(uses, (flow, routes[flow, hop]), 1)
    left = capacities.astype(np.float64).copy()
    rising = np.ones(flows, dtype=np.bool_)
    level = 0.0
    while rising.any():
        load = uses[rising].sum(axis=0)
        busy = load > 0
        step = float((left[busy] / load[busy]).min())
        level += step
        left[busy] = np.maximum(left[busy] - step * load[busy], 0.0)
        full = busy & (left <= capacities * 1e-12)
        stopped = rising & (uses[:, full] > 0).any(axis=1)
        rates[stopped] = level
        rising &= ~stopped
    return rates
