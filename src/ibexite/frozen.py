"""Small classes of plain data, for what is loaded at every start. `dataclass` takes a millisecond and a half for each
of them, and there are a hundred; this takes a tenth."""

from __future__ import annotations

from typing import Any, TypeVar, dataclass_transform

T = TypeVar("T")


@dataclass_transform(frozen_default=True)
def frozen(cls: type[T]) -> type[T]:
    """Makes a class of its annotations: slots, an __init__ with defaults, equal and hashed by its values. Frozen for
    mypy. It may have bases of the same making, whose fields come first."""
    return made(cls, {"__eq__": _equal, "__hash__": _hashed, "__repr__": _written})


@dataclass_transform(frozen_default=True, eq_default=False)
def node(cls: type[T]) -> type[T]:
    """The same, compared by identity, as the parts of a tree are."""
    return made(cls, {"__repr__": _written})


def made(cls: type[T], methods: dict[str, Any]) -> type[T]:
    """The class with its slots, and with these methods unless it has its own."""
    own = {name: None for name in cls.__dict__.get("__annotations__", {}) if not _is_of_class(cls, name)}
    inherited: dict[str, None] = {}
    defaults: dict[str, Any] = {}
    for base in reversed(cls.__mro__[1:]):
        inherited |= dict.fromkeys(getattr(base, "__match_args__", ()))
        defaults |= getattr(base, "_defaults", {})
    defaults |= {name: cls.__dict__[name] for name in own if name in cls.__dict__}
    names = tuple(inherited | own)
    arguments = ", ".join(f"{name}=defaults[{name!r}]" if name in defaults else name for name in names)
    space: dict[str, Any] = {"defaults": defaults}
    exec(
        f"def __init__(self, {arguments}):\n" + "".join(f"    self.{name} = {name}\n" for name in names) + "    pass",
        space,
    )
    kept = {key: value for key, value in cls.__dict__.items() if key not in (*own, "__dict__", "__weakref__")}
    new: type[T] = type(cls)(cls.__name__, cls.__bases__, {  # type: ignore[misc]
        **methods, **kept, "__slots__": tuple(name for name in own if name not in inherited), "__match_args__": names,
        "__init__": space["__init__"], "_defaults": defaults,
    })  # fmt: skip
    return new


def replaced(one: T, **changes: Any) -> T:
    """The same with other values of some fields."""
    values = {name: getattr(one, name) for name in type(one).__match_args__}  # type: ignore[attr-defined]
    return type(one)(**{**values, **changes})


def _is_of_class(cls: type, name: str) -> bool:
    """True for an annotation that names something of the class, not of its objects."""
    return str(cls.__annotations__[name]).startswith("ClassVar")


def _equal(self: Any, other: Any) -> Any:
    if type(other) is not type(self):
        return NotImplemented
    return all(getattr(self, name) == getattr(other, name) for name in self.__match_args__)


def _hashed(self: Any) -> int:
    return hash(tuple(getattr(self, name) for name in self.__match_args__))


def _written(self: Any) -> str:
    fields = ", ".join(f"{name}={getattr(self, name)!r}" for name in self.__match_args__)
    return f"{type(self).__name__}({fields})"
