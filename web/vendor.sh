#!/bin/sh
# Fetches the web files of other projects again from their npm packages, at the versions
# below, and checks that what comes is what is kept (shell/static/vendor.sha256).
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
mkdir -p shell/static/vendor shell/static/icons
take htmx.org@4.0.1 dist/htmx.min.js shell/static/vendor/htmx.min.js
take htmx.org@4.0.1 LICENSE shell/static/vendor/htmx.LICENSE
take bootstrap@5.3.9 dist/css/bootstrap.min.css shell/static/vendor/bootstrap.min.css
take bootstrap@5.3.9 LICENSE shell/static/vendor/bootstrap.LICENSE
take @fontsource-variable/atkinson-hyperlegible-next@5.3.0 files/atkinson-hyperlegible-next-latin-wght-normal.woff2 shell/static/vendor/hyperlegible-latin.woff2
take @fontsource-variable/atkinson-hyperlegible-next@5.3.0 files/atkinson-hyperlegible-next-latin-ext-wght-normal.woff2 shell/static/vendor/hyperlegible-latin-ext.woff2
take @fontsource-variable/atkinson-hyperlegible-next@5.3.0 LICENSE shell/static/vendor/hyperlegible.LICENSE
for icon in search three-dots arrow-counterclockwise arrow-clockwise eye inbox x-lg pencil chevron-left chevron-right dash plus download question-lg person lock info-circle; do
    take bootstrap-icons@1.13.2 "icons/$icon.svg" "shell/static/icons/$icon.svg"
done
take bootstrap-icons@1.13.2 LICENSE shell/static/icons/LICENSE
mkdir -p testdata # only for the tests: not part of the program
take axe-core@4.14.1 axe.min.js testdata/axe.min.js
take axe-core@4.14.1 LICENSE testdata/axe.LICENSE
# The source maps are not shipped, so nothing should ask for them.
sed -i '/^\/\/# sourceMappingURL=/d; s#/\*\# sourceMappingURL=[^*]*\*/##' shell/static/vendor/htmx.min.js shell/static/vendor/bootstrap.min.css
if [ "${1:-}" = --write ]; then
    sha256sum shell/static/vendor/* shell/static/icons/* testdata/axe.* > shell/static/vendor.sha256
else
    sha256sum --check --quiet shell/static/vendor.sha256
fi
