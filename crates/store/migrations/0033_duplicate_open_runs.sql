UPDATE runs JOIN (
    SELECT source_id, deliverable_id, MIN(seq) AS kept FROM runs
    WHERE deliverable_id IS NOT NULL AND state IN ('waiting', 'running', 'paused', 'checking') GROUP BY source_id, deliverable_id
) AS open ON open.source_id = runs.source_id AND open.deliverable_id = runs.deliverable_id
SET runs.state = 'cancelled', runs.finished = NOW(6), runs.lease_owner = NULL
WHERE runs.seq > open.kept AND runs.state IN ('waiting', 'running', 'paused', 'checking');
