"""What goes on in the orchestrator by itself: claims and volumes find one another, pods get a node and run,
sets of pods keep their number, what nothing holds any more goes. Each loop looks at how things are, does what
is missing, and may be asked again at any time.
"""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from fractions import Fraction
from itertools import islice

from foldbarn.core.claims.secrets import PASSWORD, USER
from foldbarn.core.units import parse_quantity
from foldbarn.yard.orchestrator.hands import Wanted
from foldbarn.yard.orchestrator.kinds import BOUND, BY_KIND, DEFAULT_CLASS, IN_USE, Kind
from foldbarn.yard.orchestrator.machinery import Api, moment
from foldbarn.yard.orchestrator.objects import Look
from foldbarn.yard.orchestrator.refusing import Refused, Thing
from foldbarn.yard.orchestrator.selecting import at
from foldbarn.yard.orchestrator.snapshots import see_to_snapshots

PROVISIONER = "volume.kubernetes.io/storage-provisioner"
OLD_PROVISIONER = "volume.beta.kubernetes.io/storage-provisioner"
SELECTED_NODE = "volume.kubernetes.io/selected-node"
BIND_COMPLETED, BOUND_BY = "pv.kubernetes.io/bind-completed", "pv.kubernetes.io/bound-by-controller"
_CLAIM, _VOLUME, _CLASS = (BY_KIND[k] for k in ("PersistentVolumeClaim", "PersistentVolume", "StorageClass"))
_POD, _NODE, _SPACE, _SET = (BY_KIND[k] for k in ("Pod", "Node", "Namespace", "StatefulSet"))
_ATTACHMENT, _DRIVER, _QUOTA = (BY_KIND[k] for k in ("VolumeAttachment", "CSIDriver", "ResourceQuota"))
_SECRET = BY_KIND["Secret"]
MOST_TURNS = 20  # that follow from one thing
FORGOTTEN_AT_ONCE = 1_000  # events

# Before a thing is kept. ---------------------------------------------------------------------------------


def default_class(api: Api, kind: Kind, thing: Thing, was: Thing | None) -> None:
    """A claim that names no class gets the default one; where several are, the newest."""
    if kind is not _CLAIM or was is not None or thing["spec"].get("storageClassName") is not None:
        return
    marked = [
        one
        for one in api.objects.all(_CLASS)
        if (one["metadata"].get("annotations") or {}).get(DEFAULT_CLASS) == "true"
    ]
    if marked:
        newest = max(marked, key=lambda one: (one["metadata"]["creationTimestamp"], one["metadata"]["name"]))
        thing["spec"]["storageClassName"] = newest["metadata"]["name"]


def only_as_class_allows(api: Api, kind: Kind, thing: Thing, was: Thing | None) -> None:
    """A claim grows only when it is bound, and where its class lets it."""
    if kind is not _CLAIM or was is None or _size(thing) == _size(was):
        return
    name = was["spec"].get("storageClassName") or ""
    found = api.objects.find(_CLASS, "", name)
    if at(was, "status.phase") != "Bound" or not (found or {}).get("allowVolumeExpansion"):
        words = (
            "only dynamically provisioned pvc can be resized and the storageclass that provisions the pvc "
        )
        words += "must support resize"
        claim = thing["metadata"]["name"]
        said = f'persistentvolumeclaims "{claim}" is forbidden: {words}'
        raise Refused("Forbidden", said, plural=_CLAIM.plural, name=claim)


def within_quotas(api: Api, kind: Kind, thing: Thing, was: Thing | None) -> None:
    """What a namespace may have of claims and pods, and of bytes that claims ask for."""
    if kind not in (_CLAIM, _POD):
        return
    space = thing["metadata"]["namespace"]
    wanted = _counted(kind, thing)
    before = _counted(kind, was) if was is not None else {}
    for quota in api.objects.all(_QUOTA, space):
        hard = at(quota, "spec.hard") or {}
        used = _used(api, space)
        for key, amount in wanted.items():
            more = amount - before.get(key, Fraction(0))
            if key in hard and more > 0 and used.get(key, Fraction(0)) + more > parse_quantity(hard[key]):
                name, thing_name = quota["metadata"]["name"], thing["metadata"]["name"]
                words = f"exceeded quota: {name}, requested: {key}={_written(more)}, "
                words += f"used: {key}={_written(used.get(key, Fraction(0)))}, limited: {key}={hard[key]}"
                said = f'{kind.plural} "{thing_name}" is forbidden: {words}'
                raise Refused("Forbidden", said, plural=kind.plural, name=thing_name)


ADMISSION = (default_class, only_as_class_allows, within_quotas)


def _size(claim: Thing) -> Fraction:
    return parse_quantity(str(at(claim, "spec.resources.requests.storage")))


def _counted(kind: Kind, thing: Thing) -> dict[str, Fraction]:
    """What a thing counts for in quotas."""
    one = Fraction(1)
    if kind is _POD:
        return {"pods": one, "count/pods": one}
    found = {"persistentvolumeclaims": one, "count/persistentvolumeclaims": one}
    found["requests.storage"] = _size(thing)
    if name := thing["spec"].get("storageClassName"):
        of_class = f"{name}.storageclass.storage.k8s.io"
        found |= {f"{of_class}/requests.storage": _size(thing), f"{of_class}/persistentvolumeclaims": one}
    return found


def _used(api: Api, space: str) -> dict[str, Fraction]:
    found: dict[str, Fraction] = {}
    for kind in (_CLAIM, _POD):
        for thing in api.objects.all(kind, space):
            for key, amount in _counted(kind, thing).items():
                found[key] = found.get(key, Fraction(0)) + amount
    return found


def _written(amount: Fraction) -> str:
    """A number as a quantity."""
    for factor, unit in ((2**40, "Ti"), (2**30, "Gi"), (2**20, "Mi"), (2**10, "Ki")):
        if amount and amount % factor == 0:
            return f"{amount / factor}{unit}"
    return str(amount) if amount.denominator == 1 else f"{-(-amount * 1000 // 1)}m"


def count_quotas(api: Api, look: Look) -> None:
    if not look.touches(_QUOTA, _CLAIM, _POD):
        return
    for quota in api.objects.all(_QUOTA):
        hard = at(quota, "spec.hard") or {}
        used = _used(api, quota["metadata"]["namespace"])
        said = {key: _written(used.get(key, Fraction(0))) for key in hard}
        api.note(_QUOTA, quota, status={"hard": hard, "used": said})


# Claims and volumes. -------------------------------------------------------------------------------------


def _refers(volume: Thing, claim: Thing) -> bool:
    """Whether a volume is kept for a claim: for this very one, or for one of its name."""
    to, metadata = at(volume, "spec.claimRef") or {}, claim["metadata"]
    same = (to.get("namespace"), to.get("name")) == (metadata["namespace"], metadata["name"])
    return same and to.get("uid") in (None, "", metadata["uid"])


def _fits(volume: Thing, claim: Thing) -> bool:
    """Whether a volume that is free has all that a claim asks for."""
    spec, wanted = volume["spec"], claim["spec"]
    labels = volume["metadata"].get("labels") or {}
    return (
        not spec.get("claimRef")
        and not volume["metadata"].get("deletionTimestamp")
        and (spec.get("storageClassName") or "") == (wanted.get("storageClassName") or "")
        and spec["volumeMode"] == wanted["volumeMode"]
        and set(wanted["accessModes"]) <= set(spec["accessModes"])
        and (at(wanted, "selector.matchLabels") or {}).items() <= labels.items()
        and parse_quantity(spec["capacity"]["storage"]) >= _size(claim)
    )


def bind_claims(api: Api, look: Look) -> None:
    """Claims that are not bound get a volume that is there, or ask their class's provisioner for one."""
    for claim in _claims_to_look_at(api, look):
        if at(claim, "status.phase") == "Bound":
            if api.objects.find(_VOLUME, "", claim["spec"].get("volumeName", "")) is None:
                api.note(_CLAIM, claim, status={"phase": "Lost"})
                api.tell(claim, "ClaimLost", "Bound claim has lost its PersistentVolume.", warning=True)
        elif at(claim, "status.phase") == "Pending" and not claim["metadata"].get("deletionTimestamp"):
            _bind_or_ask(api, claim)


def _claims_to_look_at(api: Api, look: Look) -> list[Thing]:
    """Those of which anything has changed that they wait for, or hold on to."""
    places = {(one["metadata"]["namespace"], one["metadata"]["name"]) for one in look.of(_CLAIM)}
    volumes = look.of(_VOLUME)
    for volume in volumes:
        if to := at(volume, "spec.claimRef"):
            places.add((to["namespace"], to["name"]))
    # Any that waits may be for a volume that nobody has claimed, and for a class that has just come.
    anyone = look.touches(_CLASS) or any(one["metadata"]["name"] in api.objects.unclaimed for one in volumes)
    if anyone:
        places |= {key[1:] for key in api.objects.unbound}
    if look.first:
        return api.objects.all(_CLAIM)
    if look.whole:
        places |= set(api.objects.next_in_round(_CLAIM))
    found = (api.objects.find(_CLAIM, *place) for place in sorted(places))
    return [claim for claim in found if claim is not None]


def _bind_or_ask(api: Api, claim: Thing) -> None:
    metadata = claim["metadata"]
    if named := claim["spec"].get("volumeName"):
        found = api.objects.find(_VOLUME, "", named)
        if found is not None and (_refers(found, claim) or not at(found, "spec.claimRef")):
            _bind(api, claim, found)
        return
    names = sorted(api.objects.meant_for.get((metadata["namespace"], metadata["name"]), ()))
    meant = [one for one in (api.objects.get(_VOLUME, "", name) for name in names) if _refers(one, claim)]
    if meant:
        _bind(api, claim, meant[0])
        return
    unclaimed = [] if _binds_late(api, claim) else sorted(api.objects.unclaimed)
    free = [one for one in (api.objects.get(_VOLUME, "", name) for name in unclaimed) if _fits(one, claim)]
    if free:
        _bind(api, claim, min(free, key=lambda one: parse_quantity(one["spec"]["capacity"]["storage"])))
    else:
        _ask_provisioner(api, claim)


def _class_of(api: Api, claim: Thing) -> Thing | None:
    return api.objects.find(_CLASS, "", claim["spec"].get("storageClassName") or "")


def _binds_late(api: Api, claim: Thing) -> bool:
    """Whether a claim waits for the first pod that uses it, and has none yet."""
    found = _class_of(api, claim)
    late = found is not None and found["volumeBindingMode"] == "WaitForFirstConsumer"
    return late and SELECTED_NODE not in (claim["metadata"].get("annotations") or {})


def _ask_provisioner(api: Api, claim: Thing) -> None:
    by, name = "persistentvolume-controller", claim["spec"].get("storageClassName")
    if not name:
        words = "no persistent volumes available for this claim and no storage class is set"
        api.tell(claim, "FailedBinding", words, by=by)
        return
    found = _class_of(api, claim)
    if found is None:
        words = f'storageclass.storage.k8s.io "{name}" not found'
        api.tell(claim, "ProvisioningFailed", words, warning=True, by=by)
    elif _binds_late(api, claim):
        words = "waiting for first consumer to be created before binding"
        api.tell(claim, "WaitForFirstConsumer", words, by=by)
    else:
        provisioner = found["provisioner"]
        asked = api.annotate(_CLAIM, claim, {PROVISIONER: provisioner, OLD_PROVISIONER: provisioner})
        if asked is not claim:
            words = f"Waiting for a volume to be created by the external provisioner '{provisioner}'."
            api.tell(asked, "ExternalProvisioning", words, by=by)


def _bind(api: Api, claim: Thing, volume: Thing) -> None:
    metadata = claim["metadata"]
    to = {"kind": "PersistentVolumeClaim", "apiVersion": "v1", "uid": metadata["uid"]}
    to |= {"namespace": metadata["namespace"], "name": metadata["name"]}
    kept = at(volume, "spec.claimRef") or {}
    bound = api.note(_VOLUME, volume, status={"phase": "Bound", "message": None}, claimRef={**kept, **to})
    if not kept.get("uid"):
        bound = api.annotate(_VOLUME, bound, {BOUND_BY: "yes"})
    spec = bound["spec"]
    now = api.annotate(_CLAIM, claim, {BIND_COMPLETED: "yes"})
    status = {"phase": "Bound", "accessModes": spec["accessModes"], "capacity": spec["capacity"]}
    api.note(_CLAIM, now, status=status, volumeName=bound["metadata"]["name"])


def look_at_volumes(api: Api, look: Look) -> None:
    """Volumes whose claim is gone are released, and those that nobody has claimed are available."""
    names = {one["metadata"]["name"] for one in look.of(_VOLUME)}
    for claim in look.of(_CLAIM):
        names |= api.objects.meant_for.get((claim["metadata"]["namespace"], claim["metadata"]["name"]), set())
    if look.whole:
        names |= {name for _, name in api.objects.next_in_round(_VOLUME)}
    found = (api.objects.find(_VOLUME, "", name) for name in sorted(names))
    mine = api.objects.all(_VOLUME) if look.first else [one for one in found if one is not None]
    for volume in mine:
        to = at(volume, "spec.claimRef")
        meant = api.objects.find(_CLAIM, to["namespace"], to["name"]) if to else None
        phase = at(volume, "status.phase")
        if not to or not to.get("uid"):
            phase = "Available"
        elif meant is None or meant["metadata"]["uid"] != to["uid"]:
            phase = "Released"
        elif phase == "Pending":
            phase = "Available"
        volume = api.note(_VOLUME, volume, status={"phase": phase})
        metadata = volume["metadata"]
        if phase != "Bound" and metadata.get("deletionTimestamp") and BOUND in metadata.get("finalizers", ()):
            api.let_go(_VOLUME, volume, BOUND)


def _leaving(api: Api, kind: Kind) -> list[Thing]:
    """Those that are to go."""
    return [api.objects.get(kind, *key[1:]) for key in sorted(api.objects.leaving) if key[0] == kind.kind]


def _claims_of(api: Api, pod: Thing) -> Iterator[tuple[str, Thing | None]]:
    """Names of the claims that a pod uses, and these where they are there."""
    for volume in at(pod, "spec.volumes") or ():
        if name := at(volume, "persistentVolumeClaim.claimName"):
            yield name, api.objects.find(_CLAIM, pod["metadata"]["namespace"], name)


def _ended(pod: Thing) -> bool:
    return at(pod, "status.phase") in ("Succeeded", "Failed")


def let_claims_go(api: Api, look: Look) -> None:
    """A claim that is to go does so once no pod uses it."""
    leaving = _leaving(api, _CLAIM) if look.touches(_CLAIM, _POD) else []
    if not leaving:
        return
    used = {
        (pod["metadata"]["namespace"], name)
        for pod in api.objects.all(_POD)
        if not _ended(pod)
        for name, _ in _claims_of(api, pod)
    }
    for claim in leaving:
        metadata = claim["metadata"]
        place = metadata["namespace"], metadata["name"]
        if IN_USE in metadata.get("finalizers", ()) and place not in used:
            api.let_go(_CLAIM, claim, IN_USE)


# Pods. ---------------------------------------------------------------------------------------------------


def _reaches(volume: Thing, node: Thing) -> bool:
    """Whether a volume can be used on a node, as its node affinity says."""
    terms = at(volume, "spec.nodeAffinity.required.nodeSelectorTerms")
    labels = node["metadata"].get("labels") or {}

    def holds(wanted: Thing) -> bool:
        value, there = labels.get(wanted["key"]), wanted["key"] in labels
        match wanted["operator"]:
            case "In":
                return value in wanted["values"]
            case "NotIn":
                return value not in wanted["values"]
            case "Exists":
                return there
            case _:
                return not there

    return terms is None or any(all(map(holds, term.get("matchExpressions") or ())) for term in terms)


def schedule(api: Api, look: Look) -> None:
    """Pods get a node, once all that they use is there: that with the fewest pods of those that reach it."""
    if not look.touches(_POD, _CLAIM, _VOLUME, _NODE, _CLASS):
        return
    for pod in api.objects.all(_POD):
        if at(pod, "spec.nodeName") or pod["metadata"].get("deletionTimestamp") or _ended(pod):
            continue
        against = _schedule(api, pod)
        if against:
            told = {"type": "PodScheduled", "status": "False", "reason": "Unschedulable", "message": against}
            api.note(_POD, pod, status={"conditions": [told]})
            api.tell(pod, "FailedScheduling", against, warning=True, by="default-scheduler")


def _schedule(api: Api, pod: Thing) -> str:
    """Gives a pod a node. Returns why it gets none yet; empty where it gets one."""
    metadata = pod["metadata"]
    claims = list(_claims_of(api, pod))
    if missing := [name for name, claim in claims if claim is None]:
        return f'persistentvolumeclaim "{missing[0]}" not found'
    there = [claim for _, claim in claims if claim is not None]
    for claim in there:
        if "ReadWriteOncePod" in claim["spec"]["accessModes"] and _used_elsewhere(api, pod, claim):
            return "node has pod using PersistentVolumeClaim with the same name and ReadWriteOncePod access"
    open_ones = [claim for claim in there if at(claim, "status.phase") != "Bound"]
    volumes = [
        api.objects.get(_VOLUME, "", claim["spec"]["volumeName"]) for claim in there if claim not in open_ones
    ]
    pods = api.objects.all(_POD)
    nodes = [
        node
        for node in api.objects.all(_NODE)
        if not at(node, "spec.unschedulable") and all(_reaches(volume, node) for volume in volumes)
    ]
    if not nodes:
        return f"0/{len(api.objects.all(_NODE))} nodes are available: volume node affinity conflict."
    if any(
        (_class_of(api, one) or {}).get("volumeBindingMode") != "WaitForFirstConsumer" for one in open_ones
    ):
        return "pod has unbound immediate PersistentVolumeClaims"
    busy = {
        node["metadata"]["name"]: sum(at(one, "spec.nodeName") == node["metadata"]["name"] for one in pods)
        for node in nodes
    }
    chosen = min(busy, key=lambda name: (busy[name], name))
    for claim in open_ones:
        # Those that were told of another node before stay with it: they may be on their way already.
        told = (claim["metadata"].get("annotations") or {}).get(SELECTED_NODE)
        if told is None:
            api.annotate(_CLAIM, claim, {SELECTED_NODE: chosen})
    if open_ones:
        return "waiting for its PersistentVolumeClaims to be bound"
    scheduled = {"type": "PodScheduled", "status": "True", "lastTransitionTime": moment()}
    api.note(_POD, pod, status={"conditions": [scheduled]}, nodeName=chosen)
    words = f"Successfully assigned {metadata['namespace']}/{metadata['name']} to {chosen}"
    api.tell(pod, "Scheduled", words, by="default-scheduler")
    return ""


def _used_elsewhere(api: Api, pod: Thing, claim: Thing) -> bool:
    name, space = claim["metadata"]["name"], claim["metadata"]["namespace"]
    return any(
        one["metadata"]["uid"] != pod["metadata"]["uid"] and at(one, "spec.nodeName") and not _ended(one)
        for one in api.objects.all(_POD, space)
        if name in [used for used, _ in _claims_of(api, one)]
    )


def _attached_as(driver: str, handle: str, node: str) -> str:
    """The name of the attachment of a volume to a node."""
    return f"csi-{hashlib.sha256(f'{handle}{driver}{node}'.encode()).hexdigest()}"


def _wanted_attachments(api: Api) -> dict[str, tuple[Thing, str, Thing]]:
    """By name: the volume, the node and the pod; of pods that have a node."""
    found: dict[str, tuple[Thing, str, Thing]] = {}
    for pod in api.objects.all(_POD):
        node = at(pod, "spec.nodeName")
        if not node or _ended(pod):
            continue
        for _, claim in _claims_of(api, pod):
            name = at(claim, "spec.volumeName") if claim else None
            volume = api.objects.find(_VOLUME, "", name) if name else None
            if volume is None or not (source := at(volume, "spec.csi")):
                continue
            driver = api.objects.find(_DRIVER, "", source["driver"])
            if driver is None or driver["spec"]["attachRequired"]:
                as_ = _attached_as(source["driver"], source["volumeHandle"], node)
                found[as_] = volume, node, pod
    return found


def _wanted_mounts(api: Api) -> dict[tuple[str, str], tuple[Thing, list[Thing]]]:
    """By node and name: volumes that nodes mount themselves, and the pods there that use each."""
    found: dict[tuple[str, str], tuple[Thing, list[Thing]]] = {}
    for pod in api.objects.all(_POD):
        node = at(pod, "spec.nodeName")
        if not node or _ended(pod):
            continue
        for _, claim in _claims_of(api, pod):
            name = at(claim, "spec.volumeName") if claim else None
            volume = api.objects.find(_VOLUME, "", name) if name else None
            if name and volume is not None and at(volume, "spec.nfs"):
                found.setdefault((node, name), (volume, []))[1].append(pod)
    return found


def attach(api: Api, look: Look) -> None:
    """Asks each driver to attach what pods use to their nodes, and to detach what they use no more. What one
    node alone may write to is attached to one at a time.
    """
    if not look.touches(_POD, _CLAIM, _VOLUME, _ATTACHMENT, _DRIVER, _NODE):
        return
    wanted = _wanted_attachments(api)
    for one in api.objects.all(_ATTACHMENT):
        unwanted = one["metadata"]["name"] not in wanted and not one["metadata"].get("deletionTimestamp")
        if unwanted and not _in_use(api, one):  # a node lets go of it first
            api.delete(_ATTACHMENT, "", one["metadata"]["name"])
    for name, (volume, node, pod) in wanted.items():
        if api.objects.find(_ATTACHMENT, "", name) is not None:
            continue
        mine = volume["metadata"]["name"]
        elsewhere = [
            one
            for one in api.objects.all(_ATTACHMENT)
            if one["spec"]["source"]["persistentVolumeName"] == mine
        ]
        if elsewhere and not {"ReadWriteMany", "ReadOnlyMany"} & set(volume["spec"]["accessModes"]):
            words = f'Multi-Attach error for volume "{mine}": it is attached to another node'
            api.tell(pod, "FailedAttachVolume", words, warning=True, by="attachdetach-controller")
            continue
        spec = {"attacher": volume["spec"]["csi"]["driver"], "nodeName": node}
        body = {"metadata": {"name": name}, "spec": {**spec, "source": {"persistentVolumeName": mine}}}
        api.create(_ATTACHMENT, "", body)


MOUNT = "mount "  # before the name of a volume that a node mounts itself


def _known_as(source: Thing) -> str:
    """A volume, as a node says that it uses it."""
    return f"kubernetes.io/csi/{source['driver']}^{source['volumeHandle']}"


def _source_of(api: Api, attachment: Thing) -> Thing | None:
    name = attachment["spec"]["source"]["persistentVolumeName"]
    volume = api.objects.find(_VOLUME, "", name)
    return at(volume, "spec.csi") if volume is not None else None


def _in_use(api: Api, attachment: Thing) -> bool:
    """Whether the node of an attachment says that it uses the volume."""
    node, source = api.objects.find(_NODE, "", attachment["spec"]["nodeName"]), _source_of(api, attachment)
    used = at(node, "status.volumesInUse") if node is not None else None
    return source is not None and _known_as(source) in (used or ())


def use_volumes(api: Api, look: Look) -> None:
    """On each node what pods use and is attached is made usable, and what none uses any more is left."""
    if api.hands is None or not (look.touches(_POD, _CLAIM, _VOLUME, _ATTACHMENT, _SECRET) or api.soon):
        return
    api.soon = False
    nodes = [node["metadata"]["name"] for node in api.objects.all(_NODE)]
    wanted: dict[str, dict[str, Wanted]] = {name: {} for name in nodes}
    for name, (volume, node, pod) in _wanted_attachments(api).items():
        attachment = api.objects.find(_ATTACHMENT, "", name)
        if (
            attachment is None
            or not at(attachment, "status.attached")
            or pod["metadata"].get("deletionTimestamp")
        ):
            continue
        told, source = at(attachment, "status.attachmentMetadata") or {}, volume["spec"]["csi"]
        block = volume["spec"]["volumeMode"] == "Block"
        handle = _known_as(source)
        proof = _proof(api, pod, volume)
        wanted[node][handle] = Wanted(
            target=told.get("target", ""),
            portals=tuple(filter(None, told.get("portals", "").split(","))),
            file_system="" if block else source.get("fsType", "ext4"),
            name=volume["metadata"]["name"],
            proof=proof or ("", ""),
            lacks=proof is None,
        )
    for (node, name), (volume, pods) in _wanted_mounts(api).items():
        if all(pod["metadata"].get("deletionTimestamp") for pod in pods):
            continue
        source, options = volume["spec"]["nfs"], at(volume, "spec.mountOptions") or ()
        share = f"{source['server']}:{source['path']}"
        wanted[node][f"{MOUNT}{name}"] = Wanted("", (), "", name, share=share, options=",".join(options))
    used = api.hands(wanted)
    for name in nodes:
        everything = used.get(name, [])
        mounted = {one.removeprefix(MOUNT) for one in everything if one.startswith(MOUNT)}
        if mounted != api.mounted.get(name, set()):
            api.mounted[name], api.soon = mounted, True
        mine = sorted(one for one in everything if not one.startswith(MOUNT))
        api.note(_NODE, api.objects.get(_NODE, "", name), status={"volumesInUse": mine or None})
        api.soon = api.soon or set(everything) != set(wanted[name])


def _proof(api: Api, pod: Thing, volume: Thing) -> tuple[str, str] | None:
    """Name and secret that the object of a volume refers to; empty where it refers to none, None where that
    is not there.
    """
    refers = at(volume, "spec.csi.nodeStageSecretRef")
    if not refers:
        return "", ""
    secret = api.objects.find(_SECRET, refers["namespace"], refers["name"])
    if secret is None:
        words = f'MountVolume.MountDevice failed for volume "{volume["metadata"]["name"]}": '
        api.tell(
            pod, "FailedMount", f'{words}secret "{refers["name"]}" not found', warning=True, by="kubelet"
        )
        return None
    data = {key: base64.b64decode(value).decode() for key, value in (secret.get("data") or {}).items()}
    return data.get(USER, ""), data.get(PASSWORD, "")


def run_pods(api: Api, look: Look) -> None:
    """Pods that have a node run once all that they use is attached there; those that are to end do."""
    if not (look.touches(_POD, _CLAIM, _VOLUME, _ATTACHMENT, _DRIVER, _NODE) or api.soon):
        return
    wanted: dict[str, list[str]] = {}
    for name, (_, _, pod) in _wanted_attachments(api).items():
        wanted.setdefault(pod["metadata"]["uid"], []).append(name)
    unmounted = {
        pod["metadata"]["uid"]
        for (node, name), (_, pods) in _wanted_mounts(api).items()
        for pod in pods
        if api.hands and name not in api.mounted.get(node, ())
    }
    for pod in api.objects.all(_POD):
        metadata = pod["metadata"]
        if not at(pod, "spec.nodeName"):
            continue
        if metadata.get("deletionTimestamp"):
            if not metadata.get("finalizers"):
                api.objects.drop(_POD, pod)
            continue
        waits = [api.objects.find(_ATTACHMENT, "", name) for name in wanted.get(metadata["uid"], ())]
        usable = all(w and at(w, "status.attached") and (not api.hands or _in_use(api, w)) for w in waits)
        usable = usable and metadata["uid"] not in unmounted
        if at(pod, "status.phase") != "Pending" or not usable:
            continue
        conditions = [one for one in at(pod, "status.conditions") or () if one["type"] != "Ready"]
        ready = {"type": "Ready", "status": "True", "lastTransitionTime": moment()}
        status = {"phase": "Running", "startTime": moment(), "conditions": [*conditions, ready]}
        api.note(_POD, pod, status=status)
        api.tell(pod, "Started", "Started container", by="kubelet")


# Sets of pods. -------------------------------------------------------------------------------------------


def keep_sets(api: Api, look: Look) -> None:
    """Each stateful set has so many pods, made in order, each with claims of its own that outlive it."""
    if not look.touches(_SET, _POD, _CLAIM):
        return
    for one in api.objects.all(_SET):
        if not one["metadata"].get("deletionTimestamp"):
            _keep_set(api, one)


def _keep_set(api: Api, one: Thing) -> None:
    space, name = one["metadata"]["namespace"], one["metadata"]["name"]
    wanted, in_order = at(one, "spec.replicas"), at(one, "spec.podManagementPolicy") == "OrderedReady"
    pods = {place: api.objects.find(_POD, space, f"{name}-{place}") for place in range(_most(api, one))}
    ready = 0
    for place in range(wanted):
        pod = pods.get(place)
        if pod is None:
            _make_pod(api, one, place)
        running = pod is not None and at(pod, "status.phase") == "Running"
        running = running and not pod["metadata"].get("deletionTimestamp")  # type: ignore[index]
        ready += running
        if in_order and not running:
            break
    else:
        for place in sorted((p for p, pod in pods.items() if p >= wanted and pod is not None), reverse=True):
            pod = pods[place]
            if pod is not None and not pod["metadata"].get("deletionTimestamp"):
                api.delete(_POD, space, f"{name}-{place}")
            if in_order:
                break
        _drop_claims(api, one, wanted)
    there = sum(pod is not None for pod in pods.values())
    counted = {
        "replicas": there,
        "readyReplicas": ready,
        "currentReplicas": there,
        "availableReplicas": ready,
    }
    seen = api.objects.find(_SET, space, name)
    if seen is not None:
        api.note(_SET, seen, status={**counted, "observedGeneration": one["metadata"]["generation"]})


def _most(api: Api, one: Thing) -> int:
    """One more than the place of the last pod that the set has, or is to have."""
    space, name = one["metadata"]["namespace"], one["metadata"]["name"]
    places = [int(at(one, "spec.replicas"))]
    for pod in api.objects.all(_POD, space):
        before, _, place = pod["metadata"]["name"].rpartition("-")
        owners = [owner["uid"] for owner in pod["metadata"].get("ownerReferences", ())]
        if before == name and place.isdecimal() and one["metadata"]["uid"] in owners:
            places.append(int(place) + 1)
    return max(places)


def _make_pod(api: Api, one: Thing, place: int) -> None:
    space, name = one["metadata"]["namespace"], one["metadata"]["name"]
    template, volumes = one["spec"]["template"], []
    for claim in at(one, "spec.volumeClaimTemplates") or ():
        mine = f"{claim['metadata']['name']}-{name}-{place}"
        volumes.append({"name": claim["metadata"]["name"], "persistentVolumeClaim": {"claimName": mine}})
        if api.objects.find(_CLAIM, space, mine) is None:
            labels = {**(claim["metadata"].get("labels") or {}), **at(one, "spec.selector.matchLabels")}
            body = {"metadata": {"name": mine, "labels": labels}, "spec": claim["spec"]}
            try:
                api.create(_CLAIM, space, body)
            except Refused as refused:
                api.tell(one, "FailedCreate", refused.message, warning=True, by="statefulset-controller")
                return
    mine = f"{name}-{place}"
    owner = {"apiVersion": "apps/v1", "kind": "StatefulSet", "name": name, "uid": one["metadata"]["uid"]}
    labels = {**(at(template, "metadata.labels") or {}), "statefulset.kubernetes.io/pod-name": mine}
    metadata = {
        "name": mine,
        "labels": {**labels, "apps.kubernetes.io/pod-index": str(place)},
        "ownerReferences": [{**owner, "controller": True, "blockOwnerDeletion": True}],
    }
    others = [v for v in at(template, "spec.volumes") or () if v["name"] not in [v["name"] for v in volumes]]
    spec = {**template["spec"], "volumes": [*others, *volumes], "hostname": mine}
    try:
        api.create(_POD, space, {"metadata": metadata, "spec": spec})
    except Refused as refused:
        api.tell(one, "FailedCreate", refused.message, warning=True, by="statefulset-controller")


def _drop_claims(api: Api, one: Thing, wanted: int) -> None:
    """Claims of pods that are no more go, where the set says so."""
    if at(one, "spec.persistentVolumeClaimRetentionPolicy.whenScaled") != "Delete":
        return
    space, name = one["metadata"]["namespace"], one["metadata"]["name"]
    for claim in at(one, "spec.volumeClaimTemplates") or ():
        before = f"{claim['metadata']['name']}-{name}-"
        for thing in api.objects.all(_CLAIM, space):
            mine = thing["metadata"]["name"]
            place = mine.removeprefix(before)
            beyond = mine.startswith(before) and place.isdecimal() and int(place) >= wanted
            if beyond and api.objects.find(_POD, space, f"{name}-{place}") is None:
                _delete_once(api, _CLAIM, thing)


def _delete_once(api: Api, kind: Kind, thing: Thing) -> None:
    metadata = thing["metadata"]
    if not metadata.get("deletionTimestamp"):
        api.delete(kind, metadata.get("namespace", ""), metadata["name"])


# What goes with others. ----------------------------------------------------------------------------------


def end_spaces(api: Api, _: Look) -> None:
    """With a namespace goes what is in it, and then the namespace."""
    for space in _leaving(api, _SPACE):
        metadata = space["metadata"]
        space = api.note(_SPACE, space, status={"phase": "Terminating"})
        left = [
            (kind, thing)
            for kind in BY_KIND.values()
            if kind.namespaced
            for thing in api.objects.all(kind, metadata["name"])
        ]
        for kind, thing in left:
            _delete_once(api, kind, thing)
        if not left and not metadata.get("finalizers"):
            api.objects.drop(_SPACE, space)


def drop_orphans(api: Api, _: Look) -> None:
    """What belonged to others goes when the last of these has gone."""
    for name, space, own in sorted(api.objects.owned):
        thing = api.objects.get(BY_KIND[name], space, own)
        if not any(owner["uid"] in api.objects.uids for owner in thing["metadata"]["ownerReferences"]):
            _delete_once(api, BY_KIND[name], thing)


def forget_events(api: Api, look: Look) -> None:
    """Events are told for an hour, as is common practice."""
    kind, oldest = BY_KIND["Event"], moment(datetime.now(UTC) - timedelta(hours=1))
    old = (
        event
        for event in (api.objects.all(kind) if look.whole else ())
        if (event.get("lastTimestamp") or event["metadata"]["creationTimestamp"]) < oldest
    )
    for event in islice(old, FORGOTTEN_AT_ONCE):
        api.told_at.pop(event["metadata"]["name"], None)
        api.objects.drop(kind, event)


LOOPS: tuple[Callable[[Api, Look], None], ...] = (
    end_spaces,
    drop_orphans,
    keep_sets,
    bind_claims,
    schedule,
    attach,
    use_volumes,
    run_pods,
    see_to_snapshots,
    let_claims_go,
    look_at_volumes,
    count_quotas,
    forget_events,
)


def turn(api: Api, *, whole: bool = False) -> None:
    """All loops, until none of them finds anything to do. whole: beside what has changed since the last turn
    also at what has not, of claims and volumes a part each time.
    """
    for _ in range(MOST_TURNS):
        look = api.objects.take_look()
        look.whole = look.whole or whole
        if not (look.whole or look.changed or api.soon):
            return
        whole = False
        for loop in LOOPS:
            loop(api, look)
