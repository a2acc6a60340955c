import math


def share(head):
    """Part of the flow over a weir."""
    if head < 0:
        raise ValueError("head is negative")
    return 2.0 * math.sqrt(head)


def total(heads):
    return sum(share(head) for head in heads)
