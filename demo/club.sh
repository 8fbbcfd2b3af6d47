#!/bin/bash
# Makes the sample export of the pilots' club's address book with a real LDAP
# server (Debian's slapd with its policy overlay). Its output is committed.
#
#   demo/club.sh > demo/exports/pilots-club.ldif
set -euo pipefail
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
base=dc=pilotsclub,dc=example
mkdir "$work/db"
cat >"$work/slapd.conf" <<EOF
include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
modulepath /usr/lib/ldap
moduleload back_mdb
moduleload ppolicy
database mdb
suffix $base
rootdn cn=root,$base
directory $work/db
overlay ppolicy
EOF
policy() { # NAME ATTRIBUTE…
  printf 'dn: cn=%s,ou=policies,%s\nobjectClass: organizationalRole\nobjectClass: pwdPolicy\ncn: %s\npwdAttribute: userPassword\n' "$1" "$base" "$1"
  shift
  printf '%s\n' "$@" ""
}
person() { # UID "Full Name" [POLICY]
  printf 'dn: uid=%s,ou=people,%s\nobjectClass: inetOrgPerson\nuid: %s\ncn: %s\nsn: %s\ndisplayName: %s\nuserPassword: Lantern-%s-0\n' "$1" "$base" "$1" "$2" "${2##* }" "$2" "$1"
  [ $# -lt 3 ] || printf 'pwdPolicySubentry: cn=%s,ou=policies,%s\n' "$3" "$base"
  echo
}
{
  printf "dn: %s\nobjectClass: dcObject\nobjectClass: organization\ndc: pilotsclub\no: Pilots' Club\n\n" "$base"
  printf 'dn: ou=policies,%s\nobjectClass: organizationalUnit\nou: policies\n\ndn: ou=people,%s\nobjectClass: organizationalUnit\nou: people\n\n' "$base" "$base"
  policy members "pwdCheckQuality: 2" "pwdMinLength: 10" "pwdInHistory: 5" "pwdMaxAge: 15552000" "pwdLockout: TRUE" "pwdMaxFailure: 5" "pwdLockoutDuration: 900" "pwdFailureCountInterval: 900"
  policy guests "pwdMinLength: 14" "pwdMaxFailure: 3" "pwdLockout: FALSE" "pwdMinAge: 0" "pwdMaxAge: 0"
  policy regatta "pwdCheckQuality: 1" "pwdMinLength: 8"
  person p.marsh "Petra Marsh" members
  person e.skerry "Edda Skerry" members
  person g.lark "Guest Lark" guests
  person s.ward "Senior Warden" wardens
  person b.book "Booking Desk"
  person n.brass "Noel Brass"
  printf "dn: cn=Committee,ou=people,%s\nobjectClass: groupOfNames\ncn: Committee\nmember: uid=p.marsh,ou=people,%s\n\n" "$base" "$base"
} >"$work/data.ldif"
/usr/sbin/slapadd -f "$work/slapd.conf" -l "$work/data.ldif" >&2
# What changes from run to run, and what nobody reads, is left out.
/usr/sbin/slapcat -f "$work/slapd.conf" -o ldif-wrap=no |
  grep -vE '^(structuralObjectClass|entryUUID|creatorsName|createTimestamp|entryCSN|modifiersName|modifyTimestamp|contextCSN|pwdChangedTime):'
