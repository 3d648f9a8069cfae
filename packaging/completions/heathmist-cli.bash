# bash completion: verbs and options as the program itself says them
_heathmist_cli() {
  local cur=${COMP_WORDS[COMP_CWORD]} verb=${COMP_WORDS[1]}
  if [ "$COMP_CWORD" -eq 1 ]; then
    mapfile -t COMPREPLY < <(compgen -W "$(heathmist-cli --help | sed -n '/^Subcommands:/,$ s/^  \([a-z][a-z-]*\) .*/\1/p')" -- "$cur")
  elif [[ $cur == -* ]]; then
    mapfile -t COMPREPLY < <(compgen -W "$(heathmist-cli "$verb" --help 2>/dev/null | grep -oE '^  -[a-z]?,?(--)?[a-z-]*' | tr ', ' '\n\n' | grep '^-')" -- "$cur")
  else
    compopt -o filenames 2>/dev/null
    mapfile -t COMPREPLY < <(compgen -f -- "$cur")
  fi
}
complete -F _heathmist_cli heathmist-cli
