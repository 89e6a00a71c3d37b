"""What makes classes of the tree of a sequence."""

from __future__ import annotations

from typing import Any, TypeVar, dataclass_transform

T = TypeVar("T")


@dataclass_transform(frozen_default=True, eq_default=False)
def node(cls: type[T]) -> type[T]:
    """Makes a class of the tree from its annotations: slots, an __init__, compared by identity. Frozen for mypy.

    Not `dataclass`: that takes a millisecond and a half a class, and there are forty, at every start of the program.
    """
    names = tuple(cls.__annotations__)
    defaults = {name: cls.__dict__[name] for name in names if name in cls.__dict__}
    taken = (*defaults, "__dict__", "__weakref__")
    body = {key: value for key, value in cls.__dict__.items() if key not in taken}
    arguments = ", ".join(f"{name}=defaults[{name!r}]" if name in defaults else name for name in names)
    made: dict[str, Any] = {"defaults": defaults}
    exec(f"def __init__(self, {arguments}):\n" + "".join(f"    self.{name} = {name}\n" for name in names), made)
    new: type[T] = type(cls)(cls.__name__, cls.__bases__, {  # type: ignore[misc]
        **body, "__slots__": names, "__match_args__": names, "__init__": made["__init__"],
    })  # fmt: skip
    return new
