#!/usr/bin/env python3
"""Prints 'passed failed skipped' for one of our test programs' JUnit reports."""
import sys
import xml.etree.ElementTree as tree

try:
    suite = tree.parse(sys.argv[1]).getroot()
except (OSError, tree.ParseError):
    print("0 1 0")  # no report: the program died
    sys.exit()
passed = failed = skipped = 0
for case in suite.iter("testcase"):
    bad = case.findall("failure") + case.findall("error")
    said = "".join(e.text or "" for e in case.iter("system-out"))
    if bad:
        failed += 1
        print(f"FAILED: {case.get('classname')} {case.get('name')}", file=sys.stderr)
        for one in bad:
            print("    " + (one.text or one.get("message") or "").strip().replace("\n", "\n    "), file=sys.stderr)
    elif "SKIPPED:" in said:
        skipped += 1
        print(said.strip(), file=sys.stderr)
    else:
        passed += 1
print(passed, failed, skipped)
