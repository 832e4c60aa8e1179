#!/bin/sh
# Fetches the web files of other projects again from their npm packages, at the versions
# below, and checks that what comes is what is kept (static/vendor.sha256).
# With --write the hashes are written instead of checked.
set -eu
cd "$(dirname "$0")"
tmp=$(mktemp -d)
trap 'rm -rf "$tmp"' EXIT
take() { # package, file in it, file here
    pkg=$1
    if [ ! -d "$tmp/$pkg" ]; then
        mkdir -p "$tmp/$pkg"
        (cd "$tmp/$pkg" && npm pack --silent "$pkg" >/dev/null && tar xzf ./*.tgz)
    fi
    cp "$tmp/$pkg/package/$2" "$3"
}
mkdir -p static/vendor static/icons
take htmx.org@4.0.1 dist/htmx.min.js static/vendor/htmx.min.js
take htmx.org@4.0.1 LICENSE static/vendor/htmx.LICENSE
take bootstrap@5.3.9 dist/css/bootstrap.min.css static/vendor/bootstrap.min.css
take bootstrap@5.3.9 LICENSE static/vendor/bootstrap.LICENSE
take @fontsource-variable/atkinson-hyperlegible-next@5.3.0 files/atkinson-hyperlegible-next-latin-wght-normal.woff2 static/vendor/hyperlegible-latin.woff2
take @fontsource-variable/atkinson-hyperlegible-next@5.3.0 files/atkinson-hyperlegible-next-latin-ext-wght-normal.woff2 static/vendor/hyperlegible-latin-ext.woff2
take @fontsource-variable/atkinson-hyperlegible-next@5.3.0 LICENSE static/vendor/hyperlegible.LICENSE
for icon in search arrow-counterclockwise arrow-clockwise eye inbox x-lg pencil chevron-left chevron-right dash plus download question-lg person; do
    take bootstrap-icons@1.13.2 "icons/$icon.svg" "static/icons/$icon.svg"
done
take bootstrap-icons@1.13.2 LICENSE static/icons/LICENSE
mkdir -p testdata # only for the tests: not part of the program
take axe-core@4.14.1 axe.min.js testdata/axe.min.js
take axe-core@4.14.1 LICENSE testdata/axe.LICENSE
# The source maps are not shipped, so nothing should ask for them.
sed -i '/^\/\/# sourceMappingURL=/d; s#/\*\# sourceMappingURL=[^*]*\*/##' static/vendor/htmx.min.js static/vendor/bootstrap.min.css
if [ "${1:-}" = --write ]; then
    sha256sum static/vendor/* static/icons/* testdata/axe.* > static/vendor.sha256
else
    sha256sum --check --quiet static/vendor.sha256
fi
