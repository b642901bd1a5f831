line_back() {
  step 'What this machine presents'
  prints=
  for file in $(printf '%s\n' "$settings" | sed -n 's/^hostkey //p'); do
    test -r "$file.pub" || continue
    print=$(cut -d' ' -f2 "$file.pub" | base64 -d | hashed)
    prints="$prints${prints:++}$print"
    say "   $(cut -d' ' -f1 "$file.pub") $print"
  done
  test -n "$prints" || stop 'the SSH service has no host keys'
  address=$(ip -o route get "${FROM%%[ /]*}" 2>/dev/null | sed -n 's/.* src \([^ ]*\).*/\1/p')
  address=${address:-$(hostname -I 2>/dev/null | cut -d' ' -f1)}
  test -n "$address" || stop 'this machine has no address that could be told'
  line="lantern-line-1;name=$LINE_NAME;address=$address;port=$PORT;user=$LINE_USER;ssh=$prints;day=$(date -u +%Y-%m-%d)"
  inner=$(printf '%s' "$SECRET$line" | hashed)
  code=$(printf '%s' "$SECRET$inner" | hashed | cut -c1-16 | sed 's/..../&-/g; s/-$//')
  say ''
  say "$NAME is prepared. One line to carry back, whole, to the computer where lantern is:"
  say ''
  say "$line;check=$code"
  say ''
  say "There: lantern trust accept $NAME --paste -     (or, when it is not in the book: lantern machine add $NAME --paste -)"
  say "To take back what was done here: $BACK"
}
