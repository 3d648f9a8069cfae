# fish completion: verbs and options as the program itself says them
function __heathmist_verbs
    heathmist-cli --help | sed -n '/^Subcommands:/,$ s/^  \([a-z][a-z-]*\)  *\(.*\)/\1\t\2/p'
end
function __heathmist_options
    set -l words (commandline -opc)
    heathmist-cli $words[2] --help 2>/dev/null | grep -oE '^  -[a-z]?,?(--)?[a-z-]*' | tr ', ' '\n\n' | grep '^-'
end
complete -c heathmist-cli -n '__fish_use_subcommand' -f -a '(__heathmist_verbs)'
complete -c heathmist-cli -n 'not __fish_use_subcommand; and string match -q -- "-*" (commandline -ct)' -f -a '(__heathmist_options)'
