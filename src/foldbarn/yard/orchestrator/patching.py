"""The kinds of patch that the API takes: JSON Patch (RFC 6902), JSON Merge Patch (RFC 7396), the API's own
strategic merge, and apply, which here is such a merge that makes what is not there.
"""

from __future__ import annotations

from copy import deepcopy
from typing import Any

import jsonpatch

from foldbarn.yard.orchestrator.refusing import Refused, Thing

JSON, MERGE = "application/json-patch+json", "application/merge-patch+json"
STRATEGIC, APPLY = "application/strategic-merge-patch+json", "application/apply-patch+yaml"
PATCHES = (JSON, MERGE, STRATEGIC, APPLY)
# Lists that a strategic merge does not replace, and by what their entries are told apart; those that hold
# plain values have none ("patchMergeKey" in the API's own description).
_MERGED_BY = {
    "addresses": "type",
    "conditions": "type",
    "containers": "name",
    "finalizers": None,
    "imagePullSecrets": "name",
    "initContainers": "name",
    "ownerReferences": "uid",
    "secrets": "name",
    "taints": "key",
    "volumeMounts": "mountPath",
    "volumes": "name",
}
_DELETE_FROM = "$deleteFromPrimitiveList/"
_ORDER = "$setElementOrder/"


def patched(how: str, was: Thing, patch: Any) -> Thing:
    """A thing with a patch applied; the thing itself stays as it is. Raises Refused."""
    if how == JSON:
        return _json(was, patch)
    if not isinstance(patch, dict):
        raise Refused("BadRequest", "a patch of this kind is an object")
    if how == MERGE:
        found = merged(was, patch)
        assert isinstance(found, dict)
        return found
    return _strategic(was, patch)


def _json(was: Thing, patch: Any) -> Thing:
    try:
        found = jsonpatch.JsonPatch(patch).apply(was)
    except (jsonpatch.JsonPatchConflict, jsonpatch.JsonPatchTestFailed) as error:
        raise Refused(
            "Invalid", f"the server rejected our request due to an error in our request: {error}"
        ) from error
    except (jsonpatch.JsonPatchException, jsonpatch.JsonPointerException, TypeError) as error:
        raise Refused("BadRequest", f"invalid JSON patch: {error}") from error
    if not isinstance(found, dict):
        raise Refused("BadRequest", "what is left is no object")
    return found


def merged(was: Any, patch: Any) -> Any:
    """RFC 7396, section 2."""
    if not isinstance(patch, dict):
        return deepcopy(patch)
    found = deepcopy(was) if isinstance(was, dict) else {}
    for key, value in patch.items():
        if value is None:
            found.pop(key, None)
        else:
            found[key] = merged(found.get(key), value)
    return found


def _strategic(was: Any, patch: Thing) -> Thing:
    found: Thing = deepcopy(was) if isinstance(was, dict) and patch.get("$patch") != "replace" else {}
    for key, value in patch.items():
        if key.startswith(_DELETE_FROM):
            name = key.removeprefix(_DELETE_FROM)
            found[name] = [one for one in found.get(name) or [] if one not in value]
        elif key == "$patch" or key.startswith(_ORDER) or key == "$retainKeys":
            continue
        elif value is None:
            found.pop(key, None)
        elif isinstance(value, dict):
            found[key] = _strategic(found.get(key), value)
        elif isinstance(value, list) and key in _MERGED_BY:
            found[key] = _merged_list(found.get(key) or [], value, _MERGED_BY[key])
        else:
            found[key] = deepcopy(value)
    return found


def _merged_list(was: list[Any], patch: list[Any], key: str | None) -> list[Any]:
    if key is None:
        return [*was, *(one for one in patch if one not in was)]
    if any(not isinstance(one, dict) for one in patch):
        raise Refused("BadRequest", f"entries that are told apart by {key} are objects")
    found = list(was)
    for one in patch:
        place = next((n for n, old in enumerate(found) if old.get(key) == one.get(key)), None)
        if one.get("$patch") == "delete":
            found = [old for old in found if old.get(key) != one.get(key)]
        elif place is None:
            found.append(_strategic(None, one))
        else:
            found[place] = _strategic(found[place], one)
    return found
