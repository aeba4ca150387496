"""How often verdicts on devices of known faults are right: a hundred simulated devices, each measured five times.

    python benchmarks/device_truth.py

Prints a Markdown table: for each kind of fault how many verdicts were right, RETEST and wrong. No root, no network;
takes a quarter of a minute.
"""

from collections import Counter, defaultdict

from harvok.testing.device_truth import device_cases, is_wrong, verdict_of_case


def main() -> None:
    table: dict[str, Counter[str]] = defaultdict(Counter)
    for case in device_cases():
        verdict = verdict_of_case(case)
        right = verdict == case.truth or (case.truth == "RETEST" and verdict == "REJECT")
        answer = "wrong" if is_wrong(case, verdict) else "right" if right else "RETEST"
        table[case.fault][answer] += 1
    print("| fault | devices | right | RETEST | wrong |\n| --- | --- | --- | --- | --- |")
    for fault, found in [*table.items(), ("all", sum(table.values(), Counter()))]:
        print(f"| {fault} | {found.total()} | {found['right']} | {found['RETEST']} | {found['wrong']} |")


if __name__ == "__main__":
    main()
