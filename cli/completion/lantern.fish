# Completes words of lantern in fish: put this into ~/.config/fish/completions/lantern.fish
function __lantern_words
    set -l words (commandline -opc)
    set -e words[1]
    lantern complete-words $words (commandline -ct) 2>/dev/null
end
complete -c lantern -n 'count (__lantern_words) >/dev/null' -f -a '(__lantern_words)'
