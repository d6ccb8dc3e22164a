#!/usr/bin/env bash
# A wheel and a Debian package in dist/. `--check`: installs it into a bare Debian and opens a capture there. Called by ./run package.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
check="${1:-}" python=.venv/bin/python
version=$($python -c 'import sagen; print(sagen.__version__)')
$python -c 'import sys; sys.exit(sys.version_info[:2] != (3, 11))' ||
  { echo "Debian 12 has Python 3.11: make .venv with it to package (python3.11 -m venv .venv)." >&2; exit 1; }

rm -rf dist build/deb && mkdir -p dist build/deb
$python -m pip wheel -q --disable-pip-version-check --no-deps -w dist .

stage=$PWD/build/deb/stage own=$PWD/build/deb/stage/usr/lib/sagen
mkdir -p "$own" "$stage/usr/bin"
$python -m pip install -q --disable-pip-version-check --no-deps --no-compile --target "$own" -r requirements.txt dist/*.whl
# What no one runs: other programs of the packages, their tests, what Qt has for other kinds of window.
rm -rf "$own"/bin "$own"/PySide6/{Assistant.app,Designer.app,include,typesystems,scripts,glue,doc} "$own"/PySide6/Qt/{qml,libexec,metatypes}
# Of Qt's own words those of the languages that Sagen speaks.
find "$own/PySide6/Qt/translations" -type f ! -name 'qtbase_de.qm' ! -name 'qtbase_es.qm' -delete
find "$own" \( -name tests -o -name __pycache__ \) -type d -prune -exec rm -rf {} +
find "$own" \( -name '*.pyi' -o -name '*.h' -o -name '*.a' -o -name direct_url.json -o -name RECORD \) -delete
for part in assistant designer linguist lupdate lrelease qmlls qmllint qmlformat balsam balsamui svgtoqml qsb; do rm -f "$own/PySide6/$part"; done
find "$own" -type f -exec chmod 644 {} + && find "$own" -type d -exec chmod 755 {} +
cat > "$stage/usr/bin/sagen" <<'LAUNCH'
#!/usr/bin/python3 -I
import sys

sys.path.insert(0, "/usr/lib/sagen")
from sagen.cli import main

sys.exit(main())
LAUNCH
chmod 755 "$stage/usr/bin/sagen"
QT_QPA_PLATFORM=offscreen $python packaging/make_files.py "$stage"
desktop-file-validate "$stage/usr/share/applications/sagen.desktop"
appstreamcli validate --no-net "$stage/usr/share/metainfo/sagen.metainfo.xml"

cp -a packaging/debian build/deb/debian
sed -i "1s/(.*)/($version)/" build/deb/debian/changelog
sed -n '/^PACKAGES="/,/"$/p' run | tr -d '"' | sed 's/PACKAGES=//' | tr -s ' \n' ' ' | sed 's/xvfb//; s/^ *//; s/ *$//; s/ /, /g' > build/deb/stage-libraries
(cd build/deb && dpkg-buildpackage -b -us -uc -d >build.log 2>&1) || { tail -20 build/deb/build.log >&2; exit 1; }
mv build/sagen_*.deb dist/
rm -f build/sagen_*.changes build/sagen_*.buildinfo
lintian --fail-on error dist/sagen_*.deb
ls -l dist
[ "$check" = --check ] && exec packaging/check.sh dist/sagen_*.deb
exit 0
