"""The shape of a chart: its steps and transitions as one graph, what runs back, ranks, and columns side by side.

A node is `("s", index)` for a step or `("t", index)` for a transition of a sequence.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from spokeshave.model.project import Sequence

Node = tuple[str, int]


@dataclass(frozen=True, slots=True)
class Structure:
    """A sequence as a graph. `onward[n]` are the successors of a node, `back` the edges that run back."""

    roots: tuple[Node, ...]
    onward: Mapping[Node, tuple[Node, ...]]
    back: frozenset[tuple[Node, Node]]
    rank: Mapping[Node, int]
    first_child: Mapping[Node, tuple[Node, ...]]
    """Children in the tree of first discovery, in listed order."""

    @property
    def nodes(self) -> list[Node]:
        return list(self.onward)

    def forward(self, node: Node) -> list[Node]:
        return [n for n in self.onward[node] if (node, n) not in self.back]


def structure(sequence: Sequence) -> Structure:
    """The graph of a sequence, walked in listed order from its initial step; steps not reached are further roots.

    Transitions that name unknown steps are left out: the check reports them.
    """
    index = {s.name: i for i, s in enumerate(sequence.steps)}
    onward: dict[Node, list[Node]] = {("s", i): [] for i in range(len(sequence.steps))}
    for i, t in enumerate(sequence.transitions):
        if all(n in index for n in (*t.sources, *t.targets)) and t.sources:
            for source in dict.fromkeys(t.sources):
                onward[("s", index[source])].append(("t", i))
            onward[("t", i)] = [("s", index[n]) for n in dict.fromkeys(t.targets)]
    start = ("s", index.get(sequence.initial, 0))
    roots: list[Node] = []
    seen: set[Node] = set()
    back: set[tuple[Node, Node]] = set()
    children: dict[Node, list[Node]] = {n: [] for n in onward}
    order: list[Node] = []
    for root in (start, *(("s", i) for i in range(len(sequence.steps)))):
        if root in seen or root not in onward:
            continue
        roots.append(root)
        _walk(root, onward, seen, back, children, order)
    rank = dict.fromkeys(onward, 0)
    for node in reversed(order):
        for child in onward[node]:
            if (node, child) not in back:
                rank[child] = max(rank[child], rank[node] + 1)
    return Structure(
        tuple(roots),
        {n: tuple(c) for n, c in onward.items()},
        frozenset(back),
        rank,
        {n: tuple(c) for n, c in children.items()},
    )


def _walk(
    root: Node,
    onward: Mapping[Node, list[Node]],
    seen: set[Node],
    back: set[tuple[Node, Node]],
    children: dict[Node, list[Node]],
    order: list[Node],
) -> None:
    """Depth-first without recursion (charts may have thousands of steps); `order` gets nodes as they are finished."""
    open_nodes = {root}
    seen.add(root)
    stack = [(root, iter(onward[root]))]
    while stack:
        node, rest = stack[-1]
        for child in rest:
            if child in open_nodes:
                back.add((node, child))
            elif child not in seen:
                seen.add(child)
                open_nodes.add(child)
                children[node].append(child)
                stack.append((child, iter(onward[child])))
                break
        else:
            stack.pop()
            open_nodes.discard(node)
            order.append(node)


def columns(shape: Structure, position: Mapping[Node, int]) -> dict[Node, int]:
    """A column for every node so that no two chains share one where their positions overlap.

    A chain is a node with its first discovered children, one below the other. `position` is how far down a node
    stands (its rank in the chart, its row in the sheet). A chain keeps its column down to the node it leads to.
    """
    column: dict[Node, int] = {}
    taken: dict[int, list[tuple[int, int]]] = {}
    todo: list[tuple[Node, int]] = [(root, 0) for root in reversed(shape.roots)]
    while todo:
        head, least = todo.pop()
        chain = [head]
        while shape.first_child[chain[-1]]:
            chain.append(_onward(shape, chain[-1]))
        places = [position[n] for n in chain]
        ends = [position[n] - 1 for n in shape.forward(chain[-1])]
        low, high = min(places), max(places + ends)
        at = least
        while any(low <= b and a <= high for a, b in taken.get(at, ())):
            at += 1
        taken.setdefault(at, []).append((low, high))
        for node in chain:
            column[node] = at
        # Branches nearer to the head are placed first, so that outer branches do not cross inner ones.
        own = set(chain)
        todo += [(c, at + 1) for node in chain for c in reversed(shape.first_child[node]) if c not in own]
    return column


def _onward(shape: Structure, node: Node) -> Node:
    """The child a chain goes on with: the first that leads further, so that a jump back stands aside."""
    children = shape.first_child[node]
    return next((c for c in children if shape.first_child[c] or shape.forward(c)), children[0])
