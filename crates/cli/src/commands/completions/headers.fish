
# The headers of the tables on the line, behind the options that name columns.
function __gather_keys_headers
    set -l words (commandline -opc)
    $words[1] headers --unescaped -- $words[2..-1] (commandline -ct) 2>/dev/null
end
for option in on take leave update columns drop within order-by fill-down column
    complete -c gather-keys -l $option -x -k -a '(__gather_keys_headers)'
end
