// The user guide over the right side of the window: read and searched where one works, with the pages of the parts, the findings and the formats.
// The pages are the Markdown files of docs/ (CommonMark), as they are installed.
// Tested by tests/app/commands_test.cpp.
#pragma once

#include <QFrame>
#include <QLineEdit>
#include <QListWidget>
#include <QTextBrowser>

namespace bramix::app {

class GuideView : public QFrame {
    Q_OBJECT

public:
    explicit GuideView(QWidget* parent);

    // A page by its file below docs/, and a heading of it; empty: its beginning. Opens the view.
    void openAt(const QString& page, const QString& heading = {});
    [[nodiscard]] QString page() const { return page_; }
    [[nodiscard]] QTextBrowser& text() { return *text_; }
    [[nodiscard]] QLineEdit& searchLine() { return *search_; }
    [[nodiscard]] QListWidget& contents() { return *contents_; }
    // Where the window has another size now.
    void place();

protected:
    void keyPressEvent(QKeyEvent* event) override;

private:
    bool load(const QString& page);
    void dress();
    void listHeadings();
    void search(const QString& words);
    void goToHeading(const QString& heading);

    QLineEdit* search_;
    QListWidget* contents_;
    QTextBrowser* text_;
    QString page_;
};

}  // namespace bramix::app
