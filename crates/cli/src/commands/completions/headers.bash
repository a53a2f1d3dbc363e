
# The headers of the tables on the line, behind the options that name columns.
_gather_keys_and_headers() {
    local line
    case "${COMP_WORDS[COMP_CWORD - 1]}" in
        --on | --take | --leave | --update | --columns | --drop | --within | --order-by | --fill-down | --column)
            COMPREPLY=()
            while IFS= read -r line; do
                COMPREPLY+=("$line")
            done < <("${COMP_WORDS[0]}" headers -- "${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null)
            # More may follow: another column, a step, the other side of a key.
            compopt -o nospace 2>/dev/null
            return 0
            ;;
    esac
    _gather_keys "$@"
}
complete -F _gather_keys_and_headers -o nosort -o bashdefault -o default gather-keys 2>/dev/null ||
    complete -F _gather_keys_and_headers -o bashdefault -o default gather-keys
