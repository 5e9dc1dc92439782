"""Who asks the orchestrator, and what they may: bearer tokens, and roles as the API's own objects have them
(rbac.authorization.k8s.io/v1).
"""

from __future__ import annotations

import base64
import hmac
import secrets
import time
from collections.abc import Iterator
from dataclasses import dataclass, field

from foldbarn.yard.orchestrator.kinds import BY_KIND
from foldbarn.yard.orchestrator.machinery import Api
from foldbarn.yard.orchestrator.objects import Objects
from foldbarn.yard.orchestrator.refusing import Refused, Thing

OF_ACCOUNT = "kubernetes.io/service-account-token"
ACCOUNT, ACCOUNT_UID = "kubernetes.io/service-account.name", "kubernetes.io/service-account.uid"
_MASTERS = "system:masters"  # a group that may do everything
_ADMIN = "admin token"


@dataclass(frozen=True, slots=True)
class Who:
    name: str
    groups: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Act:
    """What somebody wants to do. name: of the one object; empty for none, or for all."""

    verb: str
    group: str
    plural: str
    sub: str = ""
    space: str = ""
    name: str = ""

    @property
    def resource(self) -> str:
        return f"{self.plural}/{self.sub}" if self.sub else self.plural


@dataclass(slots=True)
class Access:
    """lent: tokens that end by themselves, with their account and when that is."""

    objects: Objects
    lent: dict[str, tuple[str, str, float]] = field(default_factory=dict)

    @property
    def admin_token(self) -> str:
        """Of who set it up, and may do everything."""
        if not (token := self.objects.fact(_ADMIN)):
            token = secrets.token_urlsafe(32)
            self.objects.keep_fact(_ADMIN, token)
        return token

    def who(self, authorization: str) -> Who:
        """Whose token a request bears. Raises Refused."""
        how, _, token = authorization.partition(" ")
        if how.lower() == "bearer" and token:
            if hmac.compare_digest(token, self.admin_token):
                return Who("admin", (_MASTERS, "system:authenticated"))
            if account := self._account_of(token):
                return of_account(*account)
        raise Refused("Unauthorized", "Unauthorized")

    def _account_of(self, token: str) -> tuple[str, str] | None:
        """Namespace and name of the account that a token stands for, where there is such an account still."""
        found: tuple[str, str] | None = None
        if token in self.lent and self.lent[token][2] > time.time():
            found = self.lent[token][:2]
        said = base64.b64encode(token.encode()).decode()
        for secret in self.objects.all(BY_KIND["Secret"]):
            if secret["type"] == OF_ACCOUNT and (secret.get("data") or {}).get("token") == said:
                metadata = secret["metadata"]
                found = metadata["namespace"], metadata["annotations"][ACCOUNT]
        if found is None or self.objects.find(BY_KIND["ServiceAccount"], *found) is None:
            return None
        return found

    def lend(self, space: str, name: str, seconds: float) -> str:
        """A token of an account that ends by itself (authentication.k8s.io/v1, TokenRequest)."""
        token = secrets.token_urlsafe(32)
        self.lent[token] = space, name, time.time() + seconds
        return token

    def check(self, who: Who, act: Act) -> None:
        """Raises Refused."""
        if self.may(who, act):
            return
        where = f' in the namespace "{act.space}"' if act.space else " at the cluster scope"
        plural = f"{act.plural}.{act.group}" if act.group else act.plural
        what = f'"{act.resource}" in API group "{act.group}"'
        words = f'{plural} is forbidden: User "{who.name}" cannot {act.verb} resource {what}{where}'
        raise Refused("Forbidden", words, group=act.group, plural=act.plural, name=act.name)

    def may(self, who: Who, act: Act) -> bool:
        return _MASTERS in who.groups or any(_allows(rule, act) for rule in self.rules(who, act.space))

    def rules(self, who: Who, space: str) -> Iterator[Thing]:
        """All that lets somebody do something, everywhere and in a namespace."""
        if _MASTERS in who.groups:
            yield {"verbs": ["*"], "apiGroups": ["*"], "resources": ["*"]}
        for kind, where in (("ClusterRoleBinding", ""), ("RoleBinding", space)):
            if kind == "RoleBinding" and not space:
                continue
            for binding in self.objects.all(BY_KIND[kind], where):
                if any(_is_meant(one, who) for one in binding.get("subjects") or ()):
                    role = binding["roleRef"]
                    home = "" if role["kind"] == "ClusterRole" else binding["metadata"]["namespace"]
                    found = self.objects.find(BY_KIND[role["kind"]], home, role["name"])
                    yield from (found or {}).get("rules") or ()


def of_account(space: str, name: str) -> Who:
    groups = ("system:serviceaccounts", f"system:serviceaccounts:{space}", "system:authenticated")
    return Who(f"system:serviceaccount:{space}:{name}", groups)


def _is_meant(subject: Thing, who: Who) -> bool:
    match subject["kind"]:
        case "ServiceAccount":
            return who.name == f"system:serviceaccount:{subject.get('namespace', '')}:{subject['name']}"
        case "Group":
            return subject["name"] in who.groups
        case _:
            return bool(subject["name"] == who.name)


def _allows(rule: Thing, act: Act) -> bool:
    groups, resources = rule.get("apiGroups") or (), rule.get("resources") or ()
    names, verbs = rule.get("resourceNames") or (), rule.get("verbs") or ()
    return (
        ("*" in verbs or act.verb in verbs)
        and ("*" in groups or act.group in groups)
        and ("*" in resources or act.resource in resources or f"*/{act.sub}" in resources)
        and (not names or act.name in names)
    )


def fill_account_secrets(api: Api, authority: bytes) -> None:
    """Secrets that were made to hold an account's token get one. authority: the certificate that the
    orchestrator's own goes back to.
    """
    for secret in api.objects.all(BY_KIND["Secret"]):
        if secret["type"] != OF_ACCOUNT or (secret.get("data") or {}).get("token"):
            continue
        metadata = secret["metadata"]
        name = (metadata.get("annotations") or {}).get(ACCOUNT, "")
        account = api.objects.find(BY_KIND["ServiceAccount"], metadata["namespace"], name)
        if account is None:
            continue
        said = {
            "token": secrets.token_urlsafe(32).encode(),
            "ca.crt": authority,
            "namespace": metadata["namespace"].encode(),
        }
        data = {key: base64.b64encode(value).decode() for key, value in said.items()}
        filled = api.objects.put(BY_KIND["Secret"], {**secret, "data": {**secret.get("data", {}), **data}})
        api.annotate(BY_KIND["Secret"], filled, {ACCOUNT_UID: account["metadata"]["uid"]})
