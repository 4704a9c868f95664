"""A whole machine surveyed by a whole folder of recipes."""

from widetrail.survey.disk_walk import Tick
from widetrail.survey.inventory import Group, Stock
from widetrail.survey.machine_survey import Survey, near, survey_all

__all__ = ["Group", "Stock", "Survey", "Tick", "near", "survey_all"]
