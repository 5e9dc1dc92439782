"""Publishing a policy as a storage class, and altering one."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import AnyEffect, Note, Promise, TextRow, Texts, unchanged, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Payload
from foldbarn.changes.kinds.consumers.touched_claims import verdicts, waiting_in
from foldbarn.core.claims.classes import (
    BindingMode,
    Reclaim,
    StorageClass,
    check_class_name,
    check_mount_options,
    default_of,
)
from foldbarn.core.claims.objects import class_object, is_altered
from foldbarn.core.errors import BarnError, Conflict, NotPossible, Overtaken
from foldbarn.core.hosts.attachments import FileSystem
from foldbarn.core.policies.matching import answers
from foldbarn.core.policies.policy import against_draft
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_list
from foldbarn.store import claims
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import load_view

NEW = 0


class PublishClassParams(Params):
    """storage_class: the one that is altered, by name; empty for a new one. policy, pool: by name; pool:
    empty for whichever takes a claim best.
    """

    storage_class: str = ""
    name: str = Field(default="", max_length=300)
    policy: str = ""
    pool: str = ""
    reclaim: Reclaim = Reclaim.DELETE
    binding: BindingMode = BindingMode.AT_ONCE
    expands: bool = True
    file_system: FileSystem = FileSystem.XFS
    mount_options: list[str] = Field(default_factory=list, max_length=30)
    default: bool = False


class ClassAt(Payload):
    """A class inside a step; policy, pool: by number."""

    called: str
    policy: int
    pool: int | None
    reclaim: Reclaim
    binding: BindingMode
    expands: bool
    file_system: FileSystem
    mount_options: tuple[str, ...]
    default: bool

    @classmethod
    def of(cls, said: StorageClass) -> ClassAt:
        return cls(
            called=said.name,
            policy=said.policy,
            pool=said.pool,
            reclaim=said.reclaim,
            binding=said.binding,
            expands=said.expands,
            file_system=said.file_system,
            mount_options=said.mount_options,
            default=said.default,
        )

    def value(self, number: int) -> StorageClass:
        return StorageClass(
            name=self.called,
            policy=self.policy,
            pool=self.pool,
            reclaim=self.reclaim,
            binding=self.binding,
            expands=self.expands,
            file_system=self.file_system,
            mount_options=self.mount_options,
            default=self.default,
            number=number,
        )


class WriteClass(Inside):
    """A class (by number; 0 for a new one) is so from here on. default_was: the number of the one that claims
    got before which name none, where it is to be another.
    """

    name: ClassVar[str] = "write-class"
    storage_class: int
    to_be: ClassAt
    was: ClassAt | None = None
    default_was: int | None = None

    def carry_out(self, run: Run, session: Session) -> str:
        view = load_view(session)
        view.policy_numbered(self.to_be.policy)
        if self.to_be.pool is not None:
            view.pool_numbered(self.to_be.pool)
        said = self.to_be.value(self.storage_class)
        if said.default:
            claims.set_default(session, None)
        if self.storage_class == NEW:
            check_class_name(said.name, {one.name for one in view.classes})
            claims.add_class(session, run.change, said)
        elif claims.class_row(session, self.storage_class) is None:
            raise Overtaken("The class was withdrawn meanwhile.", about="storage_class")
        else:
            claims.alter_class(session, run.change, said)
        announce(session, "site")
        return f"{said.name} is written down. It appears wherever its policy is granted."

    def take_back(self, run: Run) -> None:
        with transaction() as session:
            made = claims.class_made_by(session, run.change)
            if made is not None:
                claims.forget_class(session, made)
            elif self.was is not None and claims.class_altered_by(session, self.storage_class) == run.change:
                claims.set_default(session, None)
                claims.alter_class(session, run.change, self.was.value(self.storage_class))
            if self.to_be.default and default_of(claims.read_classes(session)) is None:
                claims.set_default(session, self.default_was)
            announce(session, "site")


@register
class PublishClass(Kind[PublishClassParams]):
    """write (ours); the duty that looks after orchestrators makes it appear there."""

    name: ClassVar[str] = "publish-class"
    params: ClassVar[type[Params]] = PublishClassParams

    def plan(self, view: SiteView, params: PublishClassParams) -> Plan:
        about = params.name.strip() or params.storage_class
        title = f"Publish {params.policy or 'a policy'} as {about or '...'}"
        try:
            old = view.storage_class(params.storage_class) if params.storage_class else None
            new = _wanted(view, params, old)
        except BarnError as error:
            return Plan(title=title, about=about, blockers=[Note.of(error)])
        policy = view.policy_numbered(new.policy)
        before = default_of(view.classes)
        default_was = before.number if before is not None and new.default and before != old else None
        others = tuple(
            replace(c, default=c.default and not new.default) for c in view.classes if c is not old
        )
        after = replace(view, classes=(*others, new))
        names = {new.name, *([old.name] if old else [])}
        waiting = waiting_in(view, lambda k: k.claim.class_name is None or k.claim.class_name in names)
        step = WriteClass(
            storage_class=new.number,
            to_be=ClassAt.of(new),
            was=ClassAt.of(old) if old is not None else None,
            default_was=default_was,
        )
        effects: list[AnyEffect] = [
            Promise(title="It promises", sentence=policy.wishes.sentence()),
            Texts(heads=["", "Now", "Then"], rows=_rows(view, old, new)),
            _appears(view, old, new),
            *verdicts(view, after, waiting),
        ]
        return Plan(
            title=f"Change the class {old.name}" if old else title,
            about=new.name,
            steps=[Planned(step, "Write it down", "Where its policy is granted it appears by itself.")],
            effects=effects,
            # One after the other, so that of two with the same name the second is told so, and of two default
            # ones there is one.
            touches=[
                alone(Thing.CLASS, NEW),
                *([alone(Thing.CLASS, old.number)] if old else []),
                shared(Thing.POLICY, policy.number),
                *([shared(Thing.POOL, new.pool)] if new.pool is not None else []),
            ],
            meant=Meant(
                classes=(old,) if old else (),
                policies=(policy,),
                pools=(view.pool_numbered(new.pool),) if new.pool is not None else (),
            ),
            blockers=[unchanged("name")] if old == new else [],
            warnings=[
                *_default_moves(view, default_was),
                *_kept_by_none(view, new),
                *_others_there(view, new),
            ],
            undo=_undo(view, old, new),
        )


def _wanted(view: SiteView, params: PublishClassParams, old: StorageClass | None) -> StorageClass:
    """Raises BarnError."""
    name = params.name.strip()
    if old is None:
        check_class_name(name, {one.name for one in view.classes})
    elif name != old.name:
        words = f"A class keeps its name: claims ask for {old.name} by it."
        raise Conflict(words, about="name", next_step="Publish another one, and withdraw this one.")
    policy = view.policy(params.policy)
    if draft := against_draft(policy):
        raise draft
    if params.file_system is FileSystem.GFS2:
        words = "A claim's volume is mounted by one node at a time, and gfs2 is for a cluster of hosts."
        raise NotPossible(words, about="file_system")
    return StorageClass(
        name=name,
        policy=policy.number,
        pool=view.pool(params.pool).number if params.pool else None,
        reclaim=params.reclaim,
        binding=params.binding,
        expands=params.expands,
        file_system=params.file_system,
        mount_options=check_mount_options(params.mount_options),
        default=params.default,
        number=old.number if old else NEW,
    )


_RECLAIM = {
    Reclaim.DELETE: "goes into the bin with its claim",
    Reclaim.RETAIN: "is kept aside when its claim is deleted",
}
_BINDING = {
    BindingMode.AT_ONCE: "at once",
    BindingMode.LATE: "when a pod that uses it has a node",
}


def _rows(view: SiteView, old: StorageClass | None, new: StorageClass) -> list[TextRow]:
    def said(of: StorageClass) -> dict[str, str]:
        pool = view.pool_numbered(of.pool).name if of.pool is not None else "whichever takes it best"
        options = say_list(list(of.mount_options), 20) if of.mount_options else "none"
        return {
            "Name": of.name,
            "Policy": view.policy_numbered(of.policy).name,
            "Pool": pool,
            "A volume": _RECLAIM[of.reclaim],
            "It is made": _BINDING[of.binding],
            "Claims may grow": "yes" if of.expands else "no",
            "File system": of.file_system.value,
            "Mount options": options,
            "For claims that name no class": "yes" if of.default else "no",
        }

    before, after = said(old) if old else {}, said(new)
    rows = [TextRow(label=key, before=before.get(key, ""), after=after[key]) for key in after]
    return [row for row in rows if row.before != row.after]


def _granted(view: SiteView, policy: int) -> Iterator[str]:
    """Namespaces that may have a policy (by number), by orchestrator."""
    for one in view.orchestrators:
        spaces = [g.namespace for g in view.grants if (g.orchestrator, g.policy) == (one.number, policy)]
        if spaces:
            yield f"in {one.name}, for {say_list(spaces)}"


def _appears(view: SiteView, old: StorageClass | None, new: StorageClass) -> Promise:
    where = "; ".join(_granted(view, new.policy))
    if not where:
        words = "Nowhere yet: its policy was granted to no namespace. It appears by itself once it is."
        return Promise(title="It appears", sentence=words)
    policy, pool = (
        view.policy_numbered(new.policy).name,
        view.pool_numbered(new.pool).name if new.pool else "",
    )
    words = f"It appears {where}."
    if old is not None:
        was = class_object(
            old,
            view.policy_numbered(old.policy).name,
            view.pool_numbered(old.pool).name if old.pool else "",
        )
        if not is_altered(was, class_object(new, policy, pool)):
            words += " Orchestrators let that be altered of no class: it is made anew there under its name."
    return Promise(title="It appears", sentence=words)


def _default_moves(view: SiteView, was: int | None) -> list[Note]:
    before = next((one.name for one in view.classes if one.number == was), None)
    if before is None:
        return []
    words = f"{before} is the one now that claims get which name none, and is so no more."
    return [warning("default-moves", words, about="default")]


def _kept_by_none(view: SiteView, new: StorageClass) -> list[Note]:
    """That no pool keeps the policy, or not the one in which its volumes are to lie."""
    policy = view.policy_numbered(new.policy)
    found = answers(view, policy.wishes)
    mine = [one for one in found if new.pool in (None, view.pools[one.pool].number)]
    if any(one.keeps for one in mine):
        return []
    where = view.pool_numbered(new.pool).name if new.pool else "No pool"
    cannot = f"{where} cannot keep {policy.name} now" if new.pool else f"{where} can keep {policy.name} now"
    why = next((one.against[0].sentence for one in mine if one.against), "")
    return [warning("kept-by-none", f"{cannot}. {why}".strip(), about="pool")]


def _undo(view: SiteView, old: StorageClass | None, new: StorageClass) -> Undo:
    if old is None:
        return Undo("withdraw-class", {"storage_class": new.name})
    return Undo("publish-class", wish_of(view, old) | {"storage_class": old.name})


def wish_of(view: SiteView, said: StorageClass) -> dict[str, object]:
    """The wish that would make a class."""
    return {
        "name": said.name,
        "policy": view.policy_numbered(said.policy).name,
        "pool": view.pool_numbered(said.pool).name if said.pool is not None else "",
        "reclaim": said.reclaim.value,
        "binding": said.binding.value,
        "expands": said.expands,
        "file_system": said.file_system.value,
        "mount_options": list(said.mount_options),
        "default": said.default,
    }


def _others_there(view: SiteView, new: StorageClass) -> list[Note]:
    """Where somebody else has a class of that name: theirs is left alone, and ours does not appear."""
    there = [one.name for one in view.orchestrators if new.name in one.others]
    if not there:
        return []
    have = "have" if len(there) > 1 else "has"
    words = (
        f"{say_list(there)} {have} a class {new.name} that is somebody else's: there claims get nothing of "
    )
    return [warning("others-class", f"{words}this one.", about="name")]
