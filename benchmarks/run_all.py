"""Every timing, as it stands in RESULTS.md."""

from benchmarks import run_draw, run_examine, run_gap, run_live, run_log, run_machine, run_start, run_strikes

if __name__ == "__main__":
    run_start.main()
    print()
    run_draw.main([1, 10, 100])
    print()
    run_examine.main([1, 10, 100])
    print()
    run_machine.main()
    print()
    run_gap.main()
    print()
    run_log.main()
    print()
    run_strikes.main()
    print()
    run_live.main()
