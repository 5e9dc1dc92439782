"""How virtual machines are: as the volumes are that they consist of, and as their host tells."""

from __future__ import annotations

from foldbarn.core.policies.conformance import conformance
from foldbarn.core.site import SiteView, Vm
from foldbarn.core.units import say_count, say_list
from foldbarn.core.vms.parts import called, is_binned, missing_from, parts_of
from foldbarn.core.vms.power import Power, power_of, stands_still
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.states import Lamp, State, worst


def vm_state(outlook: Outlook, vm: Vm) -> State:
    """The worst of its parts, with the part that it is of; and what of it is gone for good."""
    parts = parts_of(outlook.view, vm)
    if is_binned(parts):
        return State(Lamp.AWAY, "It is in the bin, and can be brought back.")
    if gone := missing_from(vm, parts):
        words = f"Its {say_list(gone)} {'are' if len(gone) > 1 else 'is'} gone for good."
        return State(Lamp.FAILED, words)
    found = []
    for volume in parts:
        row = outlook.row_of_volume(volume.number)
        assert row is not None
        state = outlook.volume(row)
        found.append(State(state.lamp, f"Its {called(volume)}: {state.reason}"))
    state = worst(found)
    if state.lamp is Lamp.SOUND:
        state = State(Lamp.SOUND, f"All its {say_count(len(parts), 'volume')} are as they should be.")
    power = power_state(outlook.view, vm)
    if power.lamp is Lamp.SOUND:
        return state
    if state.lamp is Lamp.SOUND:
        return power
    return State(worst([state, power]).lamp, f"{state.reason} {power.reason}")


def power_state(view: SiteView, vm: Vm) -> State:
    """Whether it is on, and where, as its host tells."""
    if vm.host is None:
        words = "It is a template, from which others are made." if vm.template else "It is off."
        return State(Lamp.SOUND, words)
    name = view.host_numbered(vm.host).name
    match power_of(view, vm):
        case Power.UNKNOWN:
            runs = view.vm_host(vm.host)
            why = f" {runs.reason}" if runs is not None and runs.reason else ""
            return State(Lamp.NOT_HEARD, f"It was switched on at {name}, which is not heard.{why}")
        case Power.STOPPED:
            return State(Lamp.WATCH, f"It was switched on at {name}, which says that it is not on.")
    if stands_still(view, vm):
        return State(Lamp.WATCH, f"It is on at {name}, and stands still.")
    return State(Lamp.SOUND, f"It is on at {name}.")


def keeping_state(outlook: Outlook, vm: Vm) -> State | None:
    """How its parts stand to their policies, the worst of them; None where none of them has one."""
    found = []
    for volume in parts_of(outlook.view, vm):
        standing = conformance(outlook.view, volume)
        if standing is not None:
            found.append(State(standing.standing.lamp, f"Its {called(volume)}: {standing.standing}."))
    if not found:
        return None
    state = worst(found)
    return State(Lamp.SOUND, "All its volumes keep their policies.") if state.lamp is Lamp.SOUND else state
