UPDATE runs JOIN run_documents ON run_documents.run_id = runs.id
SET runs.preset_name = LEFT(COALESCE(JSON_VALUE(run_documents.plan, '$.preset_name'), ''), 255)
WHERE runs.preset_name = '';
