database: exec reef database
worker: exec reef worker --wait
web: exec reef serve $REEF_SERVE_OPTIONS
