# `make demo` and `make test` set up everything they need in .venv.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
INSTALLED := $(VENV)/installed
DEVELOP := $(VENV)/develop
KERNELS := $(shell find src -name '*.pyx' -o -name '*.pxd')
BUILT := $(VENV)/built
BROWSER := $(VENV)/browser
CHECKED := build/checked/src

.PHONY: demo test checked lint package bench docs site viewer screenshots clean

# The pip that comes with a Python may be years old, and an old one looks for packages two to three times as long; so the
# environment gets a new one, by the old where that can fill an environment that has none.
# Byte code is written when a module is first used: most of what is installed is not used at once, or at all.
$(INSTALLED): pyproject.toml
	@$(PYTHON) -m venv --without-pip $(VENV)
	@$(PYTHON) -m pip --python $(BIN)/python install --quiet --no-compile pip 2> /dev/null \
	  || { $(PYTHON) -m venv $(VENV) && $(BIN)/python -m pip install --quiet --upgrade pip; }
	$(BIN)/python -m pip install --quiet --no-compile --editable '.[page]'
	@touch $@

$(DEVELOP): $(INSTALLED)
	$(BIN)/python -m pip install --quiet --editable '.[dev]'
	@touch $@

# A kernel that was changed is compiled again; the others are left alone.
$(BUILT): $(DEVELOP) setup.py $(KERNELS)
	$(BIN)/python setup.py --quiet build_ext --inplace
	@touch $@

# The page is tested in a browser, which comes from the system's packages where it can be installed.
$(BROWSER): $(DEVELOP)
	@{ command -v chromium && command -v chromedriver; } > /dev/null || { test "$$(id -u)" = 0 && command -v apt-get > /dev/null \
	  && apt-get update -qq && apt-get install -y -qq --no-install-recommends chromium chromium-driver > /dev/null; } \
	  || echo "The tests of the page are skipped: they need the programs chromium and chromedriver."
	@touch $@

demo: $(INSTALLED)
	$(BIN)/zesty-otter demo otterweir

# COVER=94 fails as well where tests run less than so many percent of the lines.
test: $(BUILT) $(BROWSER)
	$(BIN)/python -m pytest -n auto $(if $(COVER),--cov=zesty_otter --cov-report= --cov-fail-under=$(COVER))

# What reads files from strangers, and the property tests, with every bound of the kernels checked.
checked: $(DEVELOP)
	ZESTY_OTTER_CHECKED=1 $(BIN)/python setup.py --quiet build_ext --inplace
	PYTHONPATH=$(CHECKED) $(BIN)/python -m pytest -n auto -m checked

lint: $(BUILT)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/python tools/kernel_stubs.py --check
	$(BIN)/mypy
	$(BIN)/lint-imports

# The source archive, and the wheel made from it, installed where nothing else is and run as the README says.
package: $(DEVELOP)
	rm -rf build/package
	$(BIN)/python -m build --outdir build/package . > build/package.log || { cat build/package.log; exit 1; }
	$(PYTHON) -m venv build/package/venv
	build/package/venv/bin/python -m pip install --quiet build/package/*.whl
	cd build/package && venv/bin/python ../../tools/readme_commands.py venv/bin/zesty-otter

bench: $(BUILT)
	$(BIN)/python bench/run.py

docs: $(BUILT)
	$(BIN)/python tools/step_pages.py
	$(BIN)/python tests/matrix.py

# The pages of docs/ and the Python reference as a site in build/site; warnings are errors.
site: $(BUILT)
	$(BIN)/python -m pip install --quiet --editable '.[site]'
	$(BIN)/mkdocs build --strict --quiet

# The script of the page from viewer/, which is checked in; needs Node.js and npm.
viewer:
	$(PYTHON) tools/bundle_viewer.py

screenshots: $(BUILT)
	$(BIN)/python tools/screenshots.py

clean:
	rm -rf $(VENV) otterweir build dist
	find src -name '*.so' -delete
