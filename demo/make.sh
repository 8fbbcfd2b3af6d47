#!/bin/bash
# Makes the sample export of the Marrowick Harbour Authority with a real
# directory, and trims it to the records and attributes that matter. Run it
# only to change the sample; its output is committed, and its GUIDs and SIDs
# are new each time.
#
#   demo/make.sh
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
lab=$here/../labs/directory
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT

base=DC=marrowick,DC=example
"$lab" build "$work/d"

unit() { printf 'dn: OU=%s,%s\nobjectClass: organizationalUnit\n\n' "$1" "$base"; }
group() { # NAME TYPE MEMBER-DN…
  printf 'dn: CN=%s,OU=Groups,%s\nobjectClass: group\nsAMAccountName: %s\ngroupType: %s\n' "$1" "$base" "$1" "$2"
  shift 2
  for m in "$@"; do printf 'member: %s,%s\n' "$m" "$base"; done
  echo
}
account() { # LOGON "Full Name" UNIT CONTROL [MORE]
  printf 'dn: CN=%s,OU=%s,%s\nobjectClass: user\nsAMAccountName: %s\nuserPrincipalName: %s@marrowick.example\ndisplayName: %s\nuserAccountControl: %s\n' \
    "$2" "$3" "$base" "$1" "$1" "$2" "$4"
  [ $# -lt 5 ] || printf '%s\n' "$5"
  echo
}
days() { echo $((-$1 * 864000000000)); }
minutes() { echo $((-$1 * 600000000)); }
never=-9223372036854775808
policy() { # NAME PRECEDENCE LENGTH COMPLEX HISTORY MAX MIN THRESHOLD DURATION WINDOW TARGET…
  printf 'dn: CN=%s,CN=Password Settings Container,CN=System,%s\nobjectClass: msDS-PasswordSettings\nmsDS-PasswordSettingsPrecedence: %s\nmsDS-MinimumPasswordLength: %s\nmsDS-PasswordComplexityEnabled: %s\nmsDS-PasswordHistoryLength: %s\nmsDS-MaximumPasswordAge: %s\nmsDS-MinimumPasswordAge: %s\nmsDS-LockoutThreshold: %s\nmsDS-LockoutDuration: %s\nmsDS-LockoutObservationWindow: %s\nmsDS-PasswordReversibleEncryptionEnabled: FALSE\n' \
    "$1" "$base" "$2" "$3" "$4" "$5" "$6" "$7" "$8" "$9" "${10}"
  shift 10
  for t in "$@"; do printf 'msDS-PSOAppliesTo: %s,%s\n' "$t" "$base"; done
  echo
}
container() { # GUID NAME FLAGS [MORE]
  printf 'dn: CN={%s},CN=Policies,CN=System,%s\nobjectClass: groupPolicyContainer\ndisplayName: %s\nflags: %s\ngPCFileSysPath: \\\\marrowick.example\\sysvol\\marrowick.example\\Policies\\{%s}\ngPCFunctionalityVersion: 2\ngPCMachineExtensionNames: [{827D319E-6EAC-11D2-A4EA-00C04F79F83A}{803E14A0-B4FB-11D0-A0D0-00A0C90F574B}]\n' "$1" "$base" "$2" "$3" "$1"
  [ $# -lt 4 ] || printf '%s\n' "$4"
  echo
}
link() { printf '[LDAP://CN={%s},CN=Policies,CN=System,%s;%s]' "$1" "$base" "$2"; }

dcs=6AC1786C-016F-11D2-945F-00C04FB984F9
trial=AD3F4085-6B97-4E3E-9F88-3A4B5C6D7E8F
default=31B2F340-016D-11D2-945F-00C04FB984F9
hardening=7A0C1D52-3E64-4B0B-9C55-0D1F2A3B4C5D
crews=8B1D2E63-4F75-4C1C-8D66-1E2F3B4C5D6E
forgotten=9C2E3F74-5A86-4D2D-9E77-2F3A4C5D6E7F

{
  for u in Pilots Dredging Locks Kiosks "Control Room" Office Services Groups Workstations Visitors; do unit "$u"; done

  account h.thorne "Harriet Thorne" "Control Room" 512
  account o.pike "Osbert Pike" "Control Room" 512
  account w.lowe "Winifred Lowe" "Control Room" 512
  account n.farrow "Nils Farrow" "Control Room" 66048
  account adm-quay "Quay Administrator" Office 512
  account adm-old "Former Administrator" Office 514
  account p.marsh "Petra Marsh" Pilots 512
  account j.tarn "Jonas Tarn" Pilots 512
  account e.skerry "Edda Skerry" Pilots 512
  account d.holm "Dag Holm" Dredging 512
  account m.silt "Mina Silt" Dredging 512
  account b.scour "Bo Scour" Dredging 544
  account l.weir "Lorna Weir" Locks 4194816
  account k.sluice "Karl Sluice" Locks 640
  account kiosk01 "Ticket Kiosk 1" Kiosks 66048
  account kiosk02 "Ticket Kiosk 2" Kiosks 66048
  account c.regent "Cornelius Regent" Office 512
  account v.prow "Vera Prow" Office 262656
  account a.ledge "Ämilie Ledge" Office 512
  account v.sound "Visiting Pilot" Visitors 512
  account v.bell "Visiting Master" Visitors 512
  account svc-tide "Tide Gauge Service" Services 66048 "servicePrincipalName: tide/gauge1.marrowick.example"
  account svc-backup "Backup Service" Services 66048 "servicePrincipalName: backup/quay1.marrowick.example"

  printf 'dn: CN=WEIGH1,OU=Workstations,%s\nobjectClass: computer\nsAMAccountName: WEIGH1$\nuserAccountControl: 4096\n\n' "$base"
  printf 'dn: CN=DREDGE1,OU=Dredging,%s\nobjectClass: computer\nsAMAccountName: DREDGE1$\nuserAccountControl: 4096\n\n' "$base"

  global=-2147483646 local=-2147483644 universal=-2147483640 list=2
  group "Watch Officers" $global "CN=Osbert Pike,OU=Control Room" "CN=Winifred Lowe,OU=Control Room"
  group "Control Room" $global "CN=Watch Officers,OU=Groups" "CN=Nils Farrow,OU=Control Room" "CN=Harriet Thorne,OU=Control Room"
  group Pilots $global "CN=Petra Marsh,OU=Pilots" "CN=Jonas Tarn,OU=Pilots" "CN=Edda Skerry,OU=Pilots" "CN=Visiting Pilot,OU=Visitors"
  group "Ticket Kiosks" $global "CN=Ticket Kiosk 1,OU=Kiosks" "CN=Ticket Kiosk 2,OU=Kiosks" "CN=Edda Skerry,OU=Pilots"
  group Executives $global "CN=Cornelius Regent,OU=Office" "CN=Winifred Lowe,OU=Control Room"
  group "Empty Berth" $global
  group "Harbour Office" $universal "CN=Ämilie Ledge,OU=Office" "CN=Vera Prow,OU=Office"
  group "Lock Keepers" $local "CN=Lorna Weir,OU=Locks" "CN=Karl Sluice,OU=Locks"
  group "Dredging Notices" $list "CN=Dag Holm,OU=Dredging" "CN=Mina Silt,OU=Dredging"

  policy "Control Room" 10 15 TRUE 24 "$(days 60)" "$(days 1)" 3 $never "$(minutes 30)" "CN=Control Room,OU=Groups"
  policy Executives 1 4 FALSE 0 $never 0 0 0 0 "CN=Executives,OU=Groups"
  policy Pilots 20 14 TRUE 24 "$(days 365)" "$(days 1)" 5 "$(minutes 15)" "$(minutes 15)" "CN=Pilots,OU=Groups"
  policy "Ticket Kiosks" 20 12 TRUE 12 $never "$(days 1)" 10 "$(minutes 5)" "$(minutes 5)" "CN=Ticket Kiosks,OU=Groups"
  policy "Harbour Master" 70 16 TRUE 24 "$(days 365)" "$(days 1)" 5 "$(minutes 30)" "$(minutes 30)" "CN=Harriet Thorne,OU=Control Room"
  policy "Old Locks" 30 10 TRUE 10 "$(days 180)" "$(days 1)" 5 "$(minutes 15)" "$(minutes 15)"
  policy "Winter Crews" 40 14 TRUE 24 "$(days 180)" "$(days 1)" 5 "$(minutes 15)" "$(minutes 15)" "CN=Empty Berth,OU=Groups"
  policy Dredging 50 14 TRUE 24 "$(days 180)" "$(days 1)" 5 "$(minutes 15)" "$(minutes 15)" OU=Dredging "CN=Dredging Notices,OU=Groups"
  policy "Harbour Office" 60 14 TRUE 24 "$(days 180)" 0 5 "$(minutes 15)" "$(minutes 30)" "CN=Harbour Office,OU=Groups"

  policy "Visiting Master" 80 12 TRUE 24 "$(days 90)" "$(days 1)" 5 "$(minutes 15)" "$(minutes 15)" "CN=Visiting Master,OU=Visitors"

  container $hardening "Harbour Hardening" 0
  container $crews "Dredging Crews" 0 "gPCWQLFilter: [marrowick.example;{5D1E2F30-7A8B-4C9D-8E0F-102030405060};0]"
  # Only its makers may read it, so that it never reaches a controller.
  container $trial "Quay Trial" 0 "nTSecurityDescriptor: O:DAG:DAD:P(A;CI;RPWPCCDCLCLORCWOWDSDDTSW;;;DA)(A;CI;RPWPCCDCLCLORCWOWDSDDTSW;;;SY)"
  container $forgotten "Old Quay Settings" 0
} >"$work/add.ldif"
"$lab" add "$work/d" "$work/add.ldif"

cat >"$work/change.ldif" <<EOF
dn: $base
changetype: modify
replace: minPwdLength
minPwdLength: 8
-
replace: minPwdAge
minPwdAge: 0
-
replace: maxPwdAge
maxPwdAge: $(days 90)
-
replace: lockoutThreshold
lockoutThreshold: 10
-
replace: lockoutDuration
lockoutDuration: $(minutes 10)
-
replace: lockOutObservationWindow
lockOutObservationWindow: $(minutes 10)
-
replace: gPLink
gPLink: $(link $hardening 0)$(link $default 0)$(link $trial 0)

dn: OU=Dredging,$base
changetype: modify
replace: gPLink
gPLink: $(link $crews 0)

dn: CN=Domain Admins,CN=Users,$base
changetype: modify
add: member
member: CN=Quay Administrator,OU=Office,$base
member: CN=Former Administrator,OU=Office,$base

dn: CN=Backup Operators,CN=Builtin,$base
changetype: modify
add: member
member: CN=Backup Service,OU=Services,$base
EOF
"$lab" modify "$work/d" "$work/change.ldif"

# Exports as auditors get them: with the directory's own answer for each
# account, trimmed to the records that matter and without the attributes that
# say nothing of passwords, policies and membership.
sam=$work/d/dc/private/sam.ldb
export_all() { ldbsearch -H "$sam" '(objectClass=*)' '*' msDS-ResultantPSO msDS-PSOApplied nTSecurityDescriptor 2>/dev/null | grep -v '^# '; }
trim() {
  awk -v RS= '
  /\nobjectClass: (domainDNS|msDS-PasswordSettings|group|user|organizationalUnit|groupPolicyContainer)\n/ {
    n = split($0, line, "\n"); drop = 0; out = ""
    for (i = 1; i <= n; i++) {
      if (line[i] !~ /^ /) drop = line[i] ~ /^(uSN|when|instanceType|objectCategory|distinguishedName|isCriticalSystemObject|countryCode|codePage|showInAdvanced|systemFlags|wellKnownObjects|otherWellKnown|subRefs|masteredBy|msDs-masteredBy|accountExpires|lastLogoff|logonCount|badPasswordTime|nTMixedDomain|serverState|uASCompat|modifiedCount|fSMORoleOwner|rIDManager|auditingPolicy|creationTime|nextRid|msDS-(AllUsers|PerUser|NcType|Supported|IsDomainFor)|ms-DS-Machine|dc:|name:|cn:|instanceType|localPolicy|rIDSet|serverReference|operatingSystem|versionNumber|sAMAccountType)/ ||
        line[i] ~ /^nTSecurity/ && $0 !~ /\nobjectClass: groupPolicyContainer\n/
      if (!drop) out = out line[i] "\n"
    }
    printf "%s\n", out
  }'
}
only() { awk -v RS= -v ORS='\n\n' -v want="$1" '($0 ~ want)'; }
but() { awk -v RS= -v ORS='\n\n' -v not="$1" '($0 !~ not)'; }

# The accounts were exported a day before the groups; in between, one account
# was put into a group. The exporter saw neither the unit of the visitors nor
# one attribute of one policy.
export_all | trim | only '\nobjectClass: user\n' >"$work/accounts"
cat >"$work/later.ldif" <<EOF
dn: CN=Pilots,OU=Groups,$base
changetype: modify
add: member
member: CN=Bo Scour,OU=Dredging,$base
EOF
"$lab" modify "$work/d" "$work/later.ldif" >/dev/null
{ export_all | trim | but '\nobjectClass: user\n'; cat "$work/accounts"; } | but '^dn: [^\n]*OU=Visitors' |
  awk -v RS= -v ORS='\n\n' '/^dn: CN=Winter Crews/ {sub(/msDS-PasswordSettingsPrecedence: 40\n?/, "")} {print}' >"$here/exports/marrowick.ldif"

# GUIDs are random, and the smaller one decides the tie of two policies; the
# documents tell of Pilots as the winner. Bytes are compared as they are stored.
stored() { awk -v RS= -v want="dn: CN=$1,CN=Password" 'index($0, want) == 1' "$here/exports/marrowick.ldif" | sed -n 's/^objectGUID: \(..\)\(..\)\(..\)\(..\).*/\4\3\2\1/p'; }
if [[ $(stored Pilots) > $(stored "Ticket Kiosks") ]]; then
  rm -rf "$work"
  exec "$0" "$@"
fi

# The repair yard's domain: exported by an account that may not read
# fine-grained policies, with the first piece only of a group's members and one account without its
# flags.
export_all | trim | but '\nobjectClass: (msDS-PasswordSettings|organizationalUnit|groupPolicyContainer)\n' |
  only '^dn: (DC=marrowick|CN=(Administrator|Domain Admins|Domain Users|Pilots|Petra Marsh|Jonas Tarn|Karl Sluice),)' |
  sed -e ':a;N;$!ba;s/\n //g' |
  sed -e 's/DC=marrowick,DC=example/DC=yard,DC=marrowick,DC=example/g; s/@marrowick/@yard.marrowick/; /^gPLink: /d' \
    -e 's/S-1-5-21-[0-9]*-[0-9]*-[0-9]*/S-1-5-21-1004336348-1177238915-682003330/' \
    -e 's/Pilots/Riggers/g; s/Petra Marsh/Runa Keel/; s/p\.marsh/r.keel/; s/Jonas Tarn/Sten Hull/; s/j\.tarn/s.hull/; s/Karl Sluice/Tove Strake/; s/k\.sluice/t.strake/; s/OU=Locks/OU=Yard/' |
  awk -v RS= -v ORS='\n\n' '/^dn: CN=Riggers/ {sub(/\nmember: /, "\nmember;range=0-0: "); gsub(/\nmember: [^\n]*/, "")} /^dn: CN=Runa Keel/ {sub(/\nuserAccountControl: [0-9]*/, "")} {print}' >"$here/exports/yard.ldif"

# The lighthouse keepers' domain: small, and exported without the container in
# which fine-grained policies lie.
export_all | trim | but '\nobjectClass: (msDS-PasswordSettings|organizationalUnit|groupPolicyContainer)\n' |
  only '^dn: (DC=marrowick|CN=(Administrator|Domain Admins|Domain Users|Lorna Weir),)' | sed -e ':a;N;$!ba;s/\n //g' |
  sed -e 's/DC=marrowick,DC=example/DC=outer-light,DC=marrowick,DC=example/g; s/@marrowick/@outer-light.marrowick/; /^gPLink: /d; /^member: .*OU=Office/d' \
    -e 's/S-1-5-21-[0-9]*-[0-9]*-[0-9]*/S-1-5-21-2004336348-1177238915-782003330/' \
    -e 's/Lorna Weir/Ole Lantern/; s/l\.weir/o.lantern/; s/OU=Locks/OU=Keepers/' >"$here/exports/outer-light.ldif"

# The policy store's templates, as the policy editor writes them, and one
# machine's own export.
utf16() { mkdir -p "$(dirname "$1")"; { printf '\xff\xfe'; sed 's/$/\r/' | iconv -f UTF-8 -t UTF-16LE; } >"$1"; }
template() { utf16 "$here/exports/sysvol/marrowick.example/Policies/{$1}/Machine/Microsoft/Windows NT/SecEdit/GptTmpl.inf"; }
template $default <<'EOF'
[Unicode]
Unicode=yes
[System Access]
MinimumPasswordAge = 1
MaximumPasswordAge = 90
MinimumPasswordLength = 12
PasswordComplexity = 1
PasswordHistorySize = 24
LockoutBadCount = 10
ResetLockoutCount = 10
LockoutDuration = 10
ClearTextPassword = 0
RequireLogonToChangePassword = 0
ForceLogoffWhenHourExpire = 0
[Kerberos Policy]
MaxTicketAge = 10
MaxRenewAge = 7
MaxServiceAge = 600
MaxClockSkew = 5
TicketValidateClient = 1
[Version]
signature="$CHICAGO$"
Revision=1
EOF
template $hardening <<'EOF'
[Unicode]
Unicode=yes
[System Access]
MinimumPasswordLength = 14
LockoutBadCount = 5
[Registry Values]
MACHINE\System\CurrentControlSet\Control\Lsa\NoLMHash=4,1
MACHINE\System\CurrentControlSet\Control\SAM\RelaxMinimumPasswordLengthLimits=4,0
[Version]
signature="$CHICAGO$"
Revision=1
EOF
template $crews <<'EOF'
[Unicode]
Unicode=yes
[System Access]
MinimumPasswordLength = 14
MaximumPasswordAge = 180
[Version]
signature="$CHICAGO$"
Revision=1
EOF
template $forgotten <<'EOF'
[Unicode]
Unicode=yes
[System Access]
MinimumPasswordLength = 6
[Version]
signature="$CHICAGO$"
Revision=1
EOF
template $dcs <<'EOF'
[Unicode]
Unicode=yes
[Registry Values]
MACHINE\System\CurrentControlSet\Services\NTDS\Parameters\LDAPServerIntegrity=4,1
[Version]
signature="$CHICAGO$"
Revision=1
EOF
template $trial <<'EOF'
[Unicode]
Unicode=yes
[System Access]
MinimumPasswordLength = 16
[Version]
signature="$CHICAGO$"
Revision=1
EOF
utf16 "$here/exports/weigh1.inf" <<'EOF'
[Unicode]
Unicode=yes
[System Access]
MinimumPasswordAge = 0
MaximumPasswordAge = -1
MinimumPasswordLength = 15
PasswordComplexity = 1
PasswordHistorySize = 24
LockoutBadCount = 0
RequireLogonToChangePassword = 0
ForceLogoffWhenHourExpire = 0
NewAdministratorName = "Weighmaster"
NewGuestName = "Visitor"
ClearTextPassword = 0
LSAAnonymousNameLookup = 0
EnableAdminAccount = 1
EnableGuestAccount = 0
[Registry Values]
MACHINE\System\CurrentControlSet\Control\Lsa\LimitBlankPasswordUse=4,1
MACHINE\System\CurrentControlSet\Control\Lsa\NoLMHash=4,1
MACHINE\System\CurrentControlSet\Control\SAM\MinimumPasswordLengthAudit=4,12
MACHINE\System\CurrentControlSet\Control\SAM\RelaxMinimumPasswordLengthLimits=4,0
[Version]
signature="$CHICAGO$"
Revision=1
EOF
utf16 "$here/exports/pilot-desk.inf" <<'EOF'
[Unicode]
Unicode=yes
[System Access]
MinimumPasswordAge = 30
MaximumPasswordAge = 30
MinimumPasswordLength = 16
PasswordComplexity = 1
PasswordHistorySize = 24
LockoutBadCount = 5
ResetLockoutCount = 15
LockoutDuration = 15
AllowAdministratorLockout = 1
ClearTextPassword = 0
PasswordReminderText = "Ask the pilot master"
[Version]
signature="$CHICAGO$"
Revision=1
EOF

# Two tally machines of one image: their exports are the same to the byte. One
# of them was mended, and fell back.
tally() { utf16 "$1" <<EOF
[Unicode]
Unicode=yes
[System Access]
MinimumPasswordAge = 1
MaximumPasswordAge = 90
MinimumPasswordLength = $2
PasswordComplexity = 1
PasswordHistorySize = 24
LockoutBadCount = 5
ResetLockoutCount = 15
LockoutDuration = 15
AllowAdministratorLockout = 1
ClearTextPassword = 0
ForceLogoffWhenHourExpire = 1
[Version]
signature="\$CHICAGO\$"
Revision=1
EOF
}
tally "$here/exports/tally1.inf" 8
tally "$here/exports/tally2.inf" 8
tally "$here/later/wednesday/tally1.inf" 14
tally "$here/later/friday/tally1.inf" 8

# The lighthouse's export as it was first, by an administrator: with the
# container of fine-grained policies, a policy and its group, and a group that
# the root's administrators are in, and somebody of another forest. What came on
# Friday is what somebody with fewer rights exported.
light=DC=outer-light,DC=marrowick,DC=example
mkdir -p "$here/later/friday"
cp "$here/exports/outer-light.ldif" "$here/later/friday/outer-light.ldif"
cat >>"$here/exports/outer-light.ldif" <<EOF

dn: CN=Password Settings Container,CN=System,$light
objectClass: top
objectClass: msDS-PasswordSettingsContainer

dn: CN=Lamp Keepers,CN=Users,$light
objectClass: top
objectClass: group
sAMAccountName: Lamp Keepers
objectSid: S-1-5-21-2004336348-1177238915-782003330-1201
groupType: -2147483646
member: CN=Ole Lantern,OU=Keepers,$light

dn: CN=Lamp Keepers,CN=Password Settings Container,CN=System,$light
objectClass: top
objectClass: msDS-PasswordSettings
objectGUID: 7b0c4f1e-52d3-4a86-9f0e-3c1d2e4f5a6b
msDS-PasswordSettingsPrecedence: 10
msDS-MinimumPasswordLength: 15
msDS-PasswordComplexityEnabled: TRUE
msDS-PasswordReversibleEncryptionEnabled: FALSE
msDS-PasswordHistoryLength: 24
msDS-MaximumPasswordAge: $(days 365)
msDS-MinimumPasswordAge: $(days 1)
msDS-LockoutThreshold: 5
msDS-LockoutDuration: $(minutes 15)
msDS-LockoutObservationWindow: $(minutes 15)
msDS-PSOAppliesTo: CN=Lamp Keepers,CN=Users,$light

EOF
tee -a "$here/later/friday/outer-light.ldif" >>"$here/exports/outer-light.ldif" <<EOF
dn: CN=Administrators,CN=Builtin,$light
objectClass: top
objectClass: group
objectSid: S-1-5-32-544
sAMAccountName: Administrators
groupType: -2147483643
member: CN=Administrator,CN=Users,$light
member: CN=Domain Admins,CN=Users,$light
member: CN=Enterprise Admins,CN=Users,DC=marrowick,DC=example
member: CN=S-1-5-21-1350117261-2033104917-1183005702-1104,CN=ForeignSecurityPrincipals,$light

EOF

# The boathouse's domain, written by hand: nothing tells what serves it; a group
# came without its type and one without all of its members; of one policy only
# the first target was exported; and its head holds what no policy editor sets.
boat=DC=boathouse,DC=marrowick,DC=example
sid=S-1-5-21-3004336348-2177238915-882003330
rower() { # LOGON "Full Name" RID MEMBER-OF…
  printf 'dn: CN=%s,OU=Crew,%s\nobjectClass: user\nsAMAccountName: %s\ndisplayName: %s\nuserAccountControl: 512\nprimaryGroupID: 513\nobjectSid: %s-%s\n' "$2" "$boat" "$1" "$2" "$sid" "$3"
  shift 3
  for g in "$@"; do printf 'memberOf: CN=%s,OU=Crew,%s\n' "$g" "$boat"; done
  echo
}
crew() { # NAME RID TYPE MEMBER
  printf 'dn: CN=%s,OU=Crew,%s\nobjectClass: group\nsAMAccountName: %s\nobjectSid: %s-%s\n' "$1" "$boat" "$1" "$sid" "$2"
  [ -z "$3" ] || printf 'groupType: %s\n' "$3"
  printf 'member: CN=%s,OU=Crew,%s\n' "$4" "$boat"
  [ $# -lt 5 ] || printf 'msDS-PSOApplied: CN=%s,CN=Password Settings Container,CN=System,%s\n' "$5" "$boat"
  echo
}
fine() { # NAME PRECEDENCE LENGTH GUID-DIGIT TARGET-LINE
  printf 'dn: CN=%s,CN=Password Settings Container,CN=System,%s\nobjectClass: msDS-PasswordSettings\nobjectGUID: %s0c4f1e-52d3-4a86-9f0e-3c1d2e4f5a6b\nmsDS-PasswordSettingsPrecedence: %s\nmsDS-MinimumPasswordLength: %s\nmsDS-PasswordComplexityEnabled: TRUE\nmsDS-PasswordReversibleEncryptionEnabled: FALSE\nmsDS-PasswordHistoryLength: 24\nmsDS-MaximumPasswordAge: %s\nmsDS-MinimumPasswordAge: %s\nmsDS-LockoutThreshold: 5\nmsDS-LockoutDuration: %s\nmsDS-LockoutObservationWindow: %s\n%s: CN=%s,OU=Crew,%s\n\n' \
    "$1" "$boat" "$4" "$2" "$3" "$(days 180)" "$(days 1)" "$(minutes 15)" "$(minutes 15)" "$5" "$6" "$boat"
}
{
  printf 'dn: %s\nobjectClass: top\nobjectClass: domainDNS\nobjectSid: %s\nminPwdLength: 8\npwdHistoryLength: 30\npwdProperties: 1\nmaxPwdAge: -37108517437440\nminPwdAge: %s\nlockoutThreshold: 5\nlockoutDuration: %s\nlockOutObservationWindow: 0\nforceLogoff: %s\n\n' \
    "$boat" "$sid" "$(days 1)" "$(minutes 30)" "$never"
  rower t.oar "Torben Oar" 1101 Oars
  rower s.helm "Signe Helm" 1102 Coxswains
  rower l.bail "Liv Bail" 1103 Bailers
  rower r.stern "Rune Stern" 1104
  crew Oars 1201 -2147483640 "Torben Oar" Oars
  crew Coxswains 1202 "" "Signe Helm"
  crew Bailers 1203 -2147483646 "Torben Oar"
  fine Oars 10 15 7a msDS-PSOAppliesTo Oars
  fine Coxswains 20 14 7b msDS-PSOAppliesTo Coxswains
  fine Bailers 30 12 7c msDS-PSOAppliesTo Bailers
  fine Regatta 90 10 7d "msDS-PSOAppliesTo;range=0-0" Oars
} >"$here/exports/boathouse.ldif"

# What a neighbour handed over: no export, but pasted text, CSV and reports.
python3 "$(dirname "$0")/fairway.py"
