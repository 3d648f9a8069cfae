# bash completion: benches and audio files, and the verb for a report
_heathmist() {
  local cur=${COMP_WORDS[COMP_CWORD]}
  if [[ ${COMP_WORDS[1]} == report && $cur == -* ]]; then
    mapfile -t COMPREPLY < <(compgen -W "-o --trial --master --album --heading --logo --without --force --json --quiet --help" -- "$cur")
    return
  fi
  compopt -o filenames 2>/dev/null
  mapfile -t COMPREPLY < <(compgen -f -- "$cur")
  if [ "$COMP_CWORD" -eq 1 ] && [[ report == "$cur"* ]]; then COMPREPLY+=(report); fi
}
complete -F _heathmist heathmist
