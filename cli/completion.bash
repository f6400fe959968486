# Completion of trimlantern for bash. It needs no other package.
_trimlantern() {
	local line=${COMP_LINE:0:COMP_POINT} current out directive option="" cut="" word
	local -a words
	read -r -a words <<<"$line"
	words=("${words[@]:1}")
	[[ $line == *[[:space:]] ]] && words+=("")
	current=${words[${#words[@]}-1]}
	out=$(trimlantern __complete "${words[@]}" 2>/dev/null) || return
	directive=${out##*:}
	out=${out%:*}
	# What is completed of --option=value is the value.
	[[ $current == -*=* ]] && option=${current%%=*}=
	# Readline replaces only what stands behind the last of the signs at which it breaks words.
	[[ $current == *:* && $COMP_WORDBREAKS == *:* ]] && cut=${current%"${current##*:}"}
	[[ $current == *=* && $COMP_WORDBREAKS == *=* && ${#cut} -le ${#option} ]] && cut=${current%"${current##*=}"}
	COMPREPLY=()
	while IFS=$'\t' read -r word _; do
		word=$option$word
		[[ $word != "$option" && $word == "$current"* ]] && COMPREPLY+=("${word#"$cut"}")
	done <<<"$out"
	((directive & 2)) && compopt -o nospace 2>/dev/null
	if ((${#COMPREPLY[@]} == 0 && !(directive & 4))); then
		compopt -o default 2>/dev/null
	fi
	return 0
}
complete -F _trimlantern trimlantern
