#!/bin/sh
# what every pier server has set
set -eu
mkdir -p /etc/pier /var/cache/pier-build
echo 'ferry=saltmarsh' > /etc/pier/pier.conf
date > /var/cache/pier-build/stamp
# this base disk has no other locale, and cloud-init would fail to set its own default on each clone
echo 'locale: C.UTF-8' > /etc/cloud/cloud.cfg.d/50-pier-locale.cfg
