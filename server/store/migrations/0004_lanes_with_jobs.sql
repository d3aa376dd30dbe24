-- Every lane that ever had a job has a row: workers look for due jobs lane by lane.
INSERT IGNORE INTO lane_state (name) SELECT DISTINCT lane FROM job;
