#!/bin/sh
# The manual page of heathmist-cli, from what it says of itself: manual.sh PROGRAM VERSION > heathmist-cli.1
set -eu
program=$1
plain() { sed -e 's/\\/\\\\/g' -e 's/-/\\-/g' -e "s/^[.']/\\\\\&&/"; }
cat <<TEXT
.TH HEATHMIST\-CLI 1 "" "Heathmist $2" "User commands"
.SH NAME
heathmist\-cli \- the headless face of Heathmist: null tests, loudness, spectra, checks of many files
.SH SYNOPSIS
.B heathmist\-cli
.I VERB
.RI [ options ]
.SH DESCRIPTION
What the window measures, for scripts. Every verb takes \-\-json and then prints one JSON object on standard output and nothing else there; without it, a short table for people.
No file that is read is ever written over, and none that exists is replaced without \-\-force.
.SH EXIT STATUS
0 done; 1 a file cannot be used (one line says which, why and what to do); 2 the words of the call are off; 3 some files did not pass a check.
.SH VERBS
TEXT
for verb in $("$program" --help | sed -n '/^Subcommands:/,$ s/^  \([a-z][a-z-]*\) .*/\1/p'); do
  printf '.SS %s\n.nf\n' "$verb"
  "$program" "$verb" --help | plain
  printf '.fi\n'
done
printf '.SH SEE ALSO\n.BR heathmist (1)\n'
