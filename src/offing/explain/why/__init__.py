"""Why a number is what it is: walks, the story of them, what terms are worth, a year of days."""
