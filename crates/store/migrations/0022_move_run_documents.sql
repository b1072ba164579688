INSERT IGNORE INTO run_documents (run_id, plan, report, reading)
SELECT id, plan, report, reading FROM runs;
