-- Until now the priority was the place that a person had given.
UPDATE runs JOIN (
        SELECT id, ROW_NUMBER() OVER (ORDER BY priority DESC, seq) AS place FROM runs
        WHERE state IN ('waiting', 'running', 'paused', 'checking')
    ) AS placed ON placed.id = runs.id
    SET runs.queue_rank = placed.place * 1048576, runs.priority = 0, runs.changed = runs.changed;
UPDATE runs JOIN (
        SELECT MAX(seq) AS seq FROM runs WHERE deliverable_id IS NOT NULL GROUP BY source_id, deliverable_id
    ) AS last ON last.seq = runs.seq
    SET runs.is_latest = 1, runs.changed = runs.changed;
ALTER TABLE runs
    DROP KEY IF EXISTS queue,
    DROP KEY IF EXISTS of_cell_as_changed;
