# What a gauge does when it boots for the first time.
mkdir -p /srv/www
echo "high water 04:12" >/srv/www/tide
