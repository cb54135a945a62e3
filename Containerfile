# Oak Trim for build machines, without the window. Build it beside a wheel that `make dist` made:
#     docker build -f Containerfile -t oak-trim .
# Keep the folder /cache from run to run, and mount the project at /work:
#     docker run --rm -v "$PWD":/work -v oak-trim-cache:/cache oak-trim check game.oak --report checks.xml
FROM python:3.11-slim

COPY constraints.txt dist/*.whl /install/
RUN python -m pip install --no-cache-dir --constraint /install/constraints.txt /install/*.whl && rm -r /install

# Compiled for the processor that builds the image; on another one each kernel is compiled when it is first called.
RUN oak-trim prepare

ENV XDG_CACHE_HOME=/cache XDG_STATE_HOME=/cache/state
RUN useradd --create-home builder && mkdir --mode 777 /cache /work
USER builder
WORKDIR /work
ENTRYPOINT ["oak-trim"]
CMD ["--help"]
