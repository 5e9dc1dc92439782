"""Manifests are written and read without loss, and what they ask for is understood or refused."""

from __future__ import annotations

from typing import Any

import kubernetes_validate
import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from foldbarn.core.claims.claims import AccessMode, Claim, Source, VolumeMode, read_claim
from foldbarn.core.claims.classes import BindingMode, Reclaim, StorageClass
from foldbarn.core.claims.grants import NO_LIMITS, Grant, Had, Limits, excesses
from foldbarn.core.claims.manifests import asked_in, claim_as_asked, quota_of
from foldbarn.core.claims.objects import class_object
from foldbarn.core.errors import NotPossible
from foldbarn.core.hosts.attachments import FileSystem
from foldbarn.core.units import GIB

NAMES = st.from_regex(r"[a-z]([a-z0-9-]{0,8}[a-z0-9])?", fullmatch=True)
MOST = st.none() | st.integers(min_value=0, max_value=10**15)
CLAIMS = st.builds(
    Claim,
    uid=st.just("ticketing/ledger"),
    namespace=st.just("ticketing"),
    name=st.just("ledger"),
    class_name=st.none() | st.just("") | NAMES,
    size=st.integers(min_value=1, max_value=2**60),
    modes=st.frozensets(st.sampled_from(AccessMode), min_size=1),
    volume_mode=st.sampled_from(VolumeMode),
    source=st.none() | st.builds(Source, st.sampled_from(["VolumeSnapshot", "PersistentVolumeClaim"]), NAMES),
)
CLASSES = st.builds(
    StorageClass,
    name=NAMES,
    policy=st.just(1),
    reclaim=st.sampled_from(Reclaim),
    binding=st.sampled_from(BindingMode),
    expands=st.booleans(),
    file_system=st.sampled_from(FileSystem),
    mount_options=st.lists(NAMES, max_size=3).map(tuple),
    default=st.booleans(),
)


def read(*documents: Any) -> list[Any]:
    """What is asked for in a file that was written, and read again."""
    return asked_in(list(yaml.safe_load_all(yaml.safe_dump_all(documents))), "ticketing")


@given(CLAIMS)
def test_a_claim_is_written_as_it_asks(claim: Claim) -> None:
    written = claim_as_asked(claim)
    [asked] = read(written)
    assert asked.claims == (claim,)
    assert read_claim({**written, "metadata": {**written["metadata"], "uid": claim.uid}}) == claim


@given(CLASSES, st.sampled_from(["", "quayside"]))
def test_a_class_is_written_as_it_appears(found: StorageClass, pool: str) -> None:
    [asked] = read(class_object(found, "steady", pool))
    said = asked.published
    assert said is not None
    assert (said.name, said.policy, said.pool) == (found.name, "steady", pool)
    for part in ("reclaim", "binding", "expands", "file_system", "mount_options", "default"):
        assert getattr(said, part) == getattr(found, part)


@given(
    limits=st.builds(Limits, MOST, MOST),
    by_class=st.dictionaries(st.sampled_from(["one", "two"]), st.builds(Limits, MOST, MOST)),
    asked=st.lists(st.tuples(st.sampled_from(["one", "two"]), st.integers(1, 10**15)), max_size=4),
)
def test_a_quota_refuses_nothing_that_is_granted(
    limits: Limits, by_class: dict[str, Limits], asked: list[tuple[str, int]]
) -> None:
    """The orchestrator's own quota adds up what is asked of each class (Kubernetes documentation, resource
    quotas): what passes here passes there.
    """
    grant = Grant(1, "ticketing", limits, None, by_class)
    quota = quota_of("ticketing", [grant], [StorageClass("one", 1), StorageClass("two", 1)])
    had: list[Had] = []
    for number, (name, size) in enumerate(asked):
        one = Had(str(number), name, size)
        if not excesses(grant, had, one):
            had.append(one)
    hard = quota["spec"]["hard"] if quota else {}
    for name in ("one", "two"):
        mine = [one.bytes for one in had if one.class_name == name]
        start = f"{name}.storageclass.storage.k8s.io/"
        assert sum(mine) <= int(hard.get(f"{start}requests.storage", sum(mine)))
        assert len(mine) <= int(hard.get(f"{start}persistentvolumeclaims", len(mine)))
    if quota is not None:
        [again] = read(quota)
        for name, said in again.limits.items():
            assert said.bytes is None or f"{name}.storageclass.storage.k8s.io/requests.storage" in hard


def test_limits_of_one_class_come_back_as_they_were() -> None:
    mine = {"steady": Limits(40 * GIB, 3)}
    quota = quota_of("ticketing", [Grant(1, "ticketing", NO_LIMITS, None, mine)], [StorageClass("steady", 1)])
    [asked] = read(quota)
    assert asked.limits == mine
    assert asked.namespace == "ticketing"
    assert quota_of("ticketing", [Grant(1, "ticketing")], [StorageClass("steady", 1)]) is None


def test_a_quota_of_less_than_nothing_is_refused() -> None:
    said = {"spec": {"hard": {"steady.storageclass.storage.k8s.io/requests.storage": "-1Gi"}}}
    with pytest.raises(NotPossible, match="is -1Gi, less than nothing"):
        read({"kind": "ResourceQuota", "metadata": {"name": "q"}, **said})


def test_what_is_written_is_as_the_api_describes_itself() -> None:
    """By the Kubernetes project's published description of its API (package kubernetes-validate): no field is
    unknown to it, and none is missing.
    """
    quota = quota_of("ticketing", [Grant(1, "ticketing", Limits(GIB, 2))], [StorageClass("steady", 1)])
    source = Source("VolumeSnapshot", "nightly")
    claim = Claim("u", "ticketing", "ledger", "steady", GIB, frozenset({AccessMode.ONE_POD}), source=source)
    options = StorageClass("steady", 1, mount_options=("noatime",), default=True)
    for written in (quota, class_object(options, "p", "q"), claim_as_asked(claim)):
        kubernetes_validate.validate(written, "1.37", strict=True)
    with pytest.raises(kubernetes_validate.ValidationError):
        kubernetes_validate.validate({**claim_as_asked(claim), "asked": 1}, "1.37", strict=True)


@pytest.mark.parametrize(
    ("altered", "words"),
    [
        ({"parameters": {}}, "A class has parameters.policy, and this one has none."),
        ({"parameters": {"policy": "p", "speed": "11"}}, "A class has no parameter speed here."),
        ({"parameters": ["p"]}, "parameters has keys and values."),
        ({"reclaimPolicy": "Recycle"}, "reclaimPolicy is Delete and Retain, not 'Recycle'."),
        ({"volumeBindingMode": "Later"}, "not 'Later'"),
        ({"mountOptions": "noatime"}, "mountOptions of a class is a list."),
        ({"parameters": {"policy": "p", "csi.storage.k8s.io/fstype": "zip"}}, "not 'zip'"),
    ],
)
def test_a_class_that_is_not_understood_is_refused_with_its_place(
    altered: dict[str, Any], words: str
) -> None:
    good = class_object(StorageClass("steady", 1), "steady-three", "")
    with pytest.raises(NotPossible, match=r"^Document 2: ") as refused:
        read(good, {**good, **altered})
    assert words in refused.value.sentence


def test_a_class_of_somebody_elses_is_said_to_be_one() -> None:
    [asked] = read({**class_object(StorageClass("theirs", 1), "p", ""), "provisioner": "other.example"})
    assert (asked.published, asked.about) == (None, "It is somebody else's: volumes come from other.example.")


def test_what_nobody_says_of_a_class_is_what_the_api_has_for_it() -> None:
    """storage.k8s.io/v1: Delete, Immediate, no expansion (Kubernetes documentation of storage classes)."""
    bare = {
        "kind": "StorageClass",
        "metadata": {"name": "bare"},
        "provisioner": "fold-barn.internal",
        "parameters": {"policy": "steady-three"},
    }
    [asked] = read(bare)
    said = asked.published
    assert said is not None
    assert (said.reclaim, said.binding, said.expands) == (Reclaim.DELETE, BindingMode.AT_ONCE, False)
    assert (said.mount_options, said.default, said.pool) == ((), False, "")
