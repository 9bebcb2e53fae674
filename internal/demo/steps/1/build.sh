#!/bin/sh
# Builds the site into public/. Needs a POSIX shell with sed, awk and find, and git for fingerprints.
set -eu
out=public
rm -rf "$out"
mkdir -p "$out/assets"
cp -R static/. "$out/"

# Assets get a part of their content's hash into their names, and a line for sed that says where they went.
script=$(mktemp)
trap 'rm -f "$script"' EXIT
for file in assets/*; do
  name=${file##*/}
  hash=$(git hash-object "$file" | cut -c1-12)
  target="assets/${name%.*}-$hash.${name##*.}"
  cp "$file" "$out/$target"
  printf 's|{{asset:%s}}|/%s|g\n' "$name" "$target" >>"$script"
done

count=0
for page in $(find pages -name '*.html' | sort); do
  path=${page#pages/}
  target="$out/$path"
  mkdir -p "${target%/*}"
  awk -v page="$page" '
    function value(key,   i) { for (i in about) if (i == key) return about[i]; return "" }
    BEGIN {
      while ((getline text < page) > 0 && text != "") {
        at = index(text, ": ")
        about[substr(text, 1, at - 1)] = substr(text, at + 2)
      }
    }
    $0 == "{{content}}" { while ((getline text < page) > 0) print text; next }
    {
      while (match($0, /\{\{(title|description|section|kind)\}\}/)) {
        key = substr($0, RSTART + 2, RLENGTH - 4)
        $0 = substr($0, 1, RSTART - 1) value(key) substr($0, RSTART + RLENGTH)
      }
      section = value("section")
      if (section != "") gsub("data-section=\"" section "\"", "aria-current=\"page\"")
      print
    }
  ' templates/page.html | sed -f "$script" >"$target"
  count=$((count + 1))
done
echo "$count pages, $(ls "$out/assets" | wc -l | tr -d ' ') assets"
