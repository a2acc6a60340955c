"""All benchmarks: `make bench`.  Ratios are measured within one run; nothing is asserted."""

from __future__ import annotations

import audit
import latency
import lookouts
import origin
import probes
import recording
import rewind
import runs
import streams
import values
import workers

if __name__ == "__main__":
    bad = probes.main()
    print()
    bad += lookouts.main()
    print()
    bad += runs.main()
    print()
    bad += values.main()
    print()
    bad += rewind.main()
    print()
    bad += recording.main()
    print()
    bad += latency.main()
    print()
    bad += audit.main()
    print()
    bad += streams.main()
    print()
    bad += origin.main()
    print()
    bad += workers.main()
    print("\nall within their limits" if not bad else f"\n{bad} over the limit, marked !")
