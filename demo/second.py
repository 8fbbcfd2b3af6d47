#!/usr/bin/env python3
"""Writes demo/later/month and demo/later/quarter: what came after the harbour's administrator
had applied a part of the change files, and what came when somebody had undone some of it.
Run it after make.sh."""
import os
import re
import shutil

here = os.path.dirname(os.path.abspath(__file__))


def read(*name):
    with open(os.path.join(here, *name), encoding="utf-8", newline="") as f:
        return f.read()


def write(text, *name):
    path = os.path.join(here, *name)
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with open(path, "w", encoding="utf-8", newline="") as f:
        f.write(text)


def entry(text, cn, **values):
    """The export with attributes of the entry of that name changed."""
    records = text.split("\n\n")
    for i, record in enumerate(records):
        if re.match(rf"dn: CN={re.escape(cn)},CN=Password Settings Container,", record):
            for name, value in values.items():
                name = name.replace("_", "-")
                record, n = re.subn(rf"(?m)^{name}: .*$", f"{name}: {value}", record)
                assert n == 1, (cn, name)
            records[i] = record
    return "\n\n".join(records)


DAY, MINUTE = -864000000000, -600000000
month = read("exports", "marrowick.ldif")
# The executives' policy as it was proposed; the kiosks' length otherwise, since their keypad takes no more.
month = entry(month, "Executives", msDS_LockoutThreshold=5, msDS_MinimumPasswordLength=14, msDS_PasswordComplexityEnabled="TRUE",
              msDS_PasswordHistoryLength=24, msDS_MaximumPasswordAge=365 * DAY, msDS_MinimumPasswordAge=DAY,
              msDS_LockoutObservationWindow=15 * MINUTE)
month = entry(month, "Ticket Kiosks", msDS_MinimumPasswordLength=13, msDS_LockoutDuration=15 * MINUTE,
              msDS_LockoutObservationWindow=15 * MINUTE, msDS_LockoutThreshold=5)
write(month, "later", "month", "marrowick.ldif")

# The gate by the ferry took the patch.
shutil.rmtree(os.path.join(here, "later", "month", "gate1"), ignore_errors=True)
shutil.copytree(os.path.join(here, "exports", "gates", "gate1"), os.path.join(here, "later", "month", "gate1"), symlinks=True)
auth = read("later", "month", "gate1", "etc", "pam.d", "common-auth")
assert " nullok" in auth
write(auth.replace(" nullok", ""), "later", "month", "gate1", "etc", "pam.d", "common-auth")
password = read("later", "month", "gate1", "etc", "pam.d", "common-password")
assert "pam_pwhistory.so use_authtok\n" in password
write(password.replace("pam_pwhistory.so use_authtok\n", "pam_pwhistory.so use_authtok remember=24\n"), "later", "month", "gate1", "etc", "pam.d",
      "common-password")

# A quarter later an executive had locked himself out, and the lock is gone again.
quarter = entry(month, "Executives", msDS_LockoutThreshold=0)
write(quarter, "later", "quarter", "marrowick.ldif")
