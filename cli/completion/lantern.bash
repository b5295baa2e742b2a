# Completes words of lantern in bash: source <(lantern completion bash)
_lantern() {
  local IFS=$'\n'
  COMPREPLY=($("${COMP_WORDS[0]/#\~/$HOME}" complete-words "${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null))
}
complete -o default -F _lantern lantern
