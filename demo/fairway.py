#!/usr/bin/env python3
"""Writes demo/exports/fairway: what the administrator of the Fairway Pilots' Association,
which does not exist, handed over: pasted text, CSV from a German machine, JSON, reports."""
import os

here = os.path.join(os.path.dirname(__file__), "exports", "fairway")
BASE = "DC=fairway,DC=example"


def write(name, text, encoding="utf-8"):
    with open(os.path.join(here, name), "wb") as f:
        f.write(text.replace("\n", "\r\n").encode(encoding))


# A shell's redirect: UTF-16 with its mark, and the prompt above.
write("default-policy.txt", f"""PS C:\\> Get-ADDefaultDomainPasswordPolicy

ComplexityEnabled           : True
DistinguishedName           : {BASE}
LockoutDuration             : 00:30:00
LockoutObservationWindow    : 00:30:00
LockoutThreshold            : 5
MaxPasswordAge              : 365.00:00:00
MinPasswordAge              : 1.00:00:00
MinPasswordLength           : 12
objectClass                 : {{domainDNS}}
objectGuid                  : 6f1d8a54-2f5e-4a57-9a1f-0d5b2f6c7e11
PasswordHistoryCount        : 24
ReversibleEncryptionEnabled : False

""", "utf-16")

write("fine-grained.txt", f"""
AppliesTo                   : {{CN=Sea Pilots,OU=Gruppen,{BASE}}}
ComplexityEnabled           : True
DistinguishedName           : CN=Sea Pilots,CN=Password Settings Container,CN=System,DC=fairway
                              ,DC=example
LockoutDuration             : 00:15:00
LockoutObservationWindow    : 00:15:00
LockoutThreshold            : 5
MaxPasswordAge              : 180.00:00:00
MinPasswordAge              : 1.00:00:00
MinPasswordLength           : 15
Name                        : Sea Pilots
PasswordHistoryCount        : 24
Precedence                  : 10
ReversibleEncryptionEnabled : False

AppliesTo                   : {{CN=Funkraum,OU=Gruppen,{BASE}, CN=Leitstelle,OU=Gruppen,{BASE}}}
ComplexityEnabled           : False
DistinguishedName           : CN=Radio Room,CN=Password Settings Container,CN=System,DC=fairway
                              ,DC=example
LockoutDuration             : 00:00:00
LockoutObservationWindow    : 00:15:00
LockoutThreshold            : 3
MaxPasswordAge              : 00:00:00
MinPasswordAge              : 00:00:00
MinPasswordLength           : 6
Name                        : Radio Room
PasswordHistoryCount        : 0
Precedence                  : 20
ReversibleEncryptionEnabled : False

""")


def row(*cells):
    return ";".join(f'"{c}"' for c in cells) + "\n"


def sid(n):
    return f"S-1-5-21-4711-815-42-{n}"


# Opened and saved again with a workbook program: words for true and false in the machine's language.
people = [("Jörg Müller", "j.mueller", 1104, "WAHR", "FALSCH"), ("Birte Boje", "b.boje", 1105, "WAHR", "FALSCH"),
          ("Enno Priel", "e.priel", 1106, "WAHR", "WAHR"), ("Gesine Watt", "g.watt", 1107, "FALSCH", "FALSCH"),
          ("Tjark Siel", "t.siel", 1108, "WAHR", "FALSCH")]
write("accounts.csv", row("DistinguishedName", "SamAccountName", "SID", "Enabled", "PasswordNeverExpires", "PasswordNotRequired", "PasswordLastSet",
                          "PrimaryGroupID", "StreetAddress")
      + "".join(row(f"CN={name},OU=Personal,{BASE}", account, sid(n), on, forever, "FALSCH", "14.03.2026 08:15:00", 513, "Deichweg 4")
                for name, account, n, on, forever in people), "cp1252")

write("groups.csv", row("DistinguishedName", "SamAccountName", "SID", "GroupCategory", "GroupScope")
      + row(f"CN=Sea Pilots,OU=Gruppen,{BASE}", "Sea Pilots", sid(1201), "Security", "Global")
      + row(f"CN=Funkraum,OU=Gruppen,{BASE}", "Funkraum", sid(1202), "Security", "Global")
      + row(f"CN=Leitstelle,OU=Gruppen,{BASE}", "Leitstelle", sid(1203), "Security", "Global")
      + row(f"CN=Domain Users,CN=Users,{BASE}", "Domain Users", sid(513), "Security", "Global"))

for group, members in (("Sea Pilots", people[:2]), ("Funkraum", people[2:3]), ("Leitstelle", people[3:4])):
    write(f"members-of-{group}.csv", "distinguishedName,name,objectClass,objectGUID,SamAccountName,SID\n"
          + "".join(f'"CN={name},OU=Personal,{BASE}",{name},user,,{account},{sid(n)}\n' for name, account, n, _, _ in members))

security = 'xmlns:q1="http://www.microsoft.com/GroupPolicy/Settings/Security" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:type="q1:SecuritySettings"'
default = "{31B2F340-016D-11D2-945F-00C04FB984F9}"


def account(name, element, value, kind, more=""):
    return f"""        <q1:Account>
{more}          <q1:Name>{name}</q1:Name>
          <q1:{element}>{value}</q1:{element}>
          <q1:Type>{kind}</q1:Type>
        </q1:Account>
"""


write("default-domain-policy.xml", f"""<?xml version="1.0" encoding="utf-16"?>
<GPO xmlns:xsd="http://www.w3.org/2001/XMLSchema" xmlns="http://www.microsoft.com/GroupPolicy/Settings">
  <Identifier>
    <Identifier xmlns="http://www.microsoft.com/GroupPolicy/Types">{default}</Identifier>
    <Domain xmlns="http://www.microsoft.com/GroupPolicy/Types">fairway.example</Domain>
  </Identifier>
  <Name>Default Domain Policy</Name>
  <Computer>
    <Enabled>true</Enabled>
    <ExtensionData>
      <Extension {security}>
{account("LockoutBadCount", "SettingNumber", 5, "Kontosperrung")}{account("MinimumPasswordLength", "SettingNumber", 12, "Kennwort")}      </Extension>
      <Name>Sicherheit</Name>
    </ExtensionData>
  </Computer>
  <LinksTo>
    <SOMName>fairway</SOMName>
    <SOMPath>fairway.example</SOMPath>
    <Enabled>true</Enabled>
    <NoOverride>false</NoOverride>
  </LinksTo>
</GPO>
""", "utf-16")

source = f"""          <GPO xmlns="http://www.microsoft.com/GroupPolicy/Settings">
            <Identifier xmlns="http://www.microsoft.com/GroupPolicy/Types">{default}</Identifier>
            <Domain xmlns="http://www.microsoft.com/GroupPolicy/Types">fairway.example</Domain>
          </GPO>
          <Precedence xmlns="http://www.microsoft.com/GroupPolicy/Settings">1</Precedence>
"""
write("tender1-resultant.xml", f"""<?xml version="1.0" encoding="utf-16"?>
<Rsop xmlns="http://www.microsoft.com/GroupPolicy/Rsop">
  <ComputerResults>
    <Name>FAIRWAY\\TENDER1$</Name>
    <Domain>fairway.example</Domain>
    <GPO>
      <Name>Default Domain Policy</Name>
      <Path>
        <Identifier xmlns="http://www.microsoft.com/GroupPolicy/Types">{default}</Identifier>
      </Path>
    </GPO>
    <ExtensionData>
      <Extension {security}>
{account("MinimumPasswordLength", "SettingNumber", 12, "Kennwort", source)}{account("LockoutBadCount", "SettingNumber", 5, "Kontosperrung", source)}      </Extension>
    </ExtensionData>
  </ComputerResults>
</Rsop>
""", "utf-16")

# On a machine without the policy editor; the console's code page.
write("tender1-accounts.txt", """Abmelden von Benutzern nach Ablauf der Zeitbegrenzung:      Nie
Minimales Kennwortalter (Tage):                            0
Maximales Kennwortalter (Tage):                            42
Minimale Kennwortlänge:                                    8
Länge der verwalteten Kennwörter:                          Keine
Sperrschwelle:                                             10
Sperrdauer (Minuten):                                      10
Sperrungsüberwachungsfenster (Minuten):                    10
Computerrolle:                                             ARBEITSSTATION
Der Befehl wurde erfolgreich ausgeführt.

""", "cp850")

write("computers.csv", row("DistinguishedName", "SamAccountName", "SID", "Enabled", "ObjectClass", "PrimaryGroupID")
      + row(f"CN=TENDER1,OU=Boote,{BASE}", "TENDER1$", sid(1301), "WAHR", "computer", 515), "cp1252")

write("policies.html", "<!DOCTYPE html>\n<html><head><title>Default Domain Policy</title></head><body>Kontorichtlinien</body></html>\n")


# The registry files of the default policies (MS-GPREG): they manage no passwords.
def wide(text):
    return text.encode("utf-16-le")


picture = wide("tide.png\0")
for domain in "marrowick.example", "fairway.example":
    place = os.path.join(os.path.dirname(__file__), "exports", "sysvol", domain, "Policies", default, "Machine")
    os.makedirs(place, exist_ok=True)
    with open(os.path.join(place, "Registry.pol"), "wb") as f:
        f.write(b"PReg" + (1).to_bytes(4, "little") + wide("[Software\\Policies\\Harbour\\Wallpaper\0;Picture\0;") + (1).to_bytes(4, "little")
                + wide(";") + len(picture).to_bytes(4, "little") + wide(";") + picture + wide("]"))
