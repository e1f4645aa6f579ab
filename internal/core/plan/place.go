package plan
