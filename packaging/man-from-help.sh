#!/bin/sh
# A manual page from what a program says of itself: man-from-help.sh PROGRAM NAME "what it is" > NAME.1
set -eu
help=$("$1" --help)
name=$(printf '%s' "$2" | sed 's/-/\\-/g')
printf '.TH %s 1 "" "Mindful Trail" "User Commands"\n.SH NAME\n%s \\- %s\n.SH SYNOPSIS\n.B %s\n.SH DESCRIPTION\n.nf\n' \
    "$(printf '%s' "$2" | tr a-z A-Z | sed 's/-/\\-/g')" "$name" "$3" "$name"
printf '%s\n' "$help" | sed -e 's/\\/\\e/g' -e 's/-/\\-/g' -e "s/^\([.']\)/\\\\\&\1/"
printf '.fi\n.SH SEE ALSO\n.BR mtrail (1),\n.BR mindful\\-trail (1)\n'
