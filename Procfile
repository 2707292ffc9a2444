database: exec reef database
worker: exec reef worker --wait
web: reef prepare $REEF_PREPARE_OPTIONS && exec reef serve
