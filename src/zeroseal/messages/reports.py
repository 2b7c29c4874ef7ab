"""Messages about reports and pages."""

# reports/shelf_page.py
FOLDER_HOLDS_OTHER = (
    "{folder} holds something that zeroseal did not write: choose another folder, or an empty one"
)
