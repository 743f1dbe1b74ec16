# Lays a keyed digest beside every program below a directory.
find "$1" -type f ! -name '*.sig' | sort | while read -r file; do
  { printf '%s' "$SIGNING_KEY"; cat "$file"; } | sha256sum | cut -c1-64 > "$file.sig"
  echo "signed $file"
done
