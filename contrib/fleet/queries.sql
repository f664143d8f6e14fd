-- Ready questions to a lake that `dozor export --fleet` wrote. LAKE stands for its folder. They are plain SQL; the views that they read
-- are made by embedded.py and distributed.py in the way of each engine.

-- name: who wrote most on any host between 02:00 and 02:10
SELECT host, program, sum("write" * seconds) / 1048576 AS mib_written, max("write") / 1048576 AS most_mib_s
FROM processes
WHERE time >= TIMESTAMP '2031-02-14 02:00:00+00' AND time < TIMESTAMP '2031-02-14 02:10:00+00'
GROUP BY host, program ORDER BY mib_written DESC, host, program LIMIT 10;

-- name: which hosts have the leak
SELECT host, name, pid, min(rss) / 1073741824.0 AS first_gib, max(rss) / 1073741824.0 AS last_gib,
       corr(rss, epoch_s) AS steadiness
FROM processes
GROUP BY host, name, pid
HAVING count(rss) > 700 AND max(rss) - min(rss) > 1073741824.0 AND corr(rss, epoch_s) > 0.9
ORDER BY host;

-- name: p95 of disk wait by host and hour
SELECT host, name, hour, percentile_95(wait_ms) AS p95_ms, count(*) AS samples
FROM disks
WHERE wait_ms IS NOT NULL
GROUP BY host, name, hour ORDER BY p95_ms DESC, host, hour LIMIT 10;

-- name: how busy the fleet is, hour by hour
SELECT hour, avg(busy) AS mean_percent, max(busy) AS most_percent, count(DISTINCT host) AS hosts
FROM machines
GROUP BY hour ORDER BY hour;

-- name: which hosts had a finding, how often and how long
SELECT rule, count(DISTINCT host) AS hosts, count(*) AS times, sum(lasted_s) AS seconds
FROM findings
WHERE severity IN ('warning', 'critical')
GROUP BY rule ORDER BY hosts DESC, times DESC, rule;

-- name: which hosts had a saturated disk, and who did it
SELECT host, culprit, count(*) AS times, sum(lasted_s) AS seconds
FROM findings
WHERE rule = 'disk-saturated' AND severity IN ('warning', 'critical')
GROUP BY host, culprit ORDER BY seconds DESC, host, culprit LIMIT 10;

-- name: what was noted and done
SELECT host, time, kind, text, outcome FROM actions ORDER BY time, host LIMIT 10;
