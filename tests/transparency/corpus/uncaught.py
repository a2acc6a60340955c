import numbers


def ratio(a, b):
    return a / b


class Station:
    def level(self, x):
        return ratio(
            x,
            self.zero,
        )

    zero = 0


print("before")
Station().level(
    3.0
)
