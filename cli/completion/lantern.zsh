#compdef lantern
# Completes words of lantern in zsh: source <(lantern completion zsh), after compinit
_lantern() {
  local -a found
  found=("${(@f)$(${(Q)words[1]} complete-words "${(@Q)words[2,CURRENT]}" 2>/dev/null)}")
  if [[ -n "$found" ]]; then
    compadd -- "${found[@]}"
  else
    _files
  fi
}
if [[ "$funcstack[1]" == _lantern ]]; then
  _lantern "$@"
else
  compdef _lantern lantern
fi
