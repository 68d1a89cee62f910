// What the decoder lanes of the tape read in the window that is seen, as a table: one row a byte, an address, a pulse. It filters, leads to the place on the tape, and goes out as CSV.
// Tested by tests/app/tape_test.cpp.
#pragma once

#include <QAbstractTableModel>
#include <QElapsedTimer>
#include <QLabel>
#include <QLineEdit>
#include <QTableView>
#include <QTimer>
#include <QWidget>

#include "app/shell/editor.h"

namespace bramix::app {

class DecodeRows : public QAbstractTableModel {
    Q_OBJECT

public:
    struct Row {
        QString lane;
        tape::Decoded item;
    };

    using QAbstractTableModel::QAbstractTableModel;

    void setRows(std::vector<Row> rows);
    // Only rows with all of these words in them, in any column.
    void setFilter(const QString& words);
    [[nodiscard]] const Row& row(int index) const { return rows_[shown_[static_cast<std::size_t>(index)]]; }
    [[nodiscard]] QString csv() const;

    [[nodiscard]] int rowCount(const QModelIndex& parent = {}) const override;
    [[nodiscard]] int columnCount(const QModelIndex& parent = {}) const override;
    [[nodiscard]] QVariant data(const QModelIndex& index, int role) const override;
    [[nodiscard]] QVariant headerData(int section, Qt::Orientation orientation, int role) const override;

private:
    void filter();
    [[nodiscard]] QString cell(const Row& row, int column) const;

    std::vector<Row> rows_;
    std::vector<std::size_t> shown_;
    QStringList words_;
};

class DecodeTable : public QWidget {
    Q_OBJECT

public:
    explicit DecodeTable(Editor& editor, QWidget* parent = nullptr);

    [[nodiscard]] DecodeRows& rows() { return *model_; }
    [[nodiscard]] QLineEdit& filterLine() { return *filter_; }
    [[nodiscard]] bool saveCsv(const QString& file);

signals:
    void momentWanted(bramix::kernel::Time at);

protected:
    void showEvent(QShowEvent*) override;

private:
    void look();
    void ask();

    Editor& editor_;
    DecodeRows* model_;
    QTableView* view_;
    QLineEdit* filter_;
    QLabel* count_;
    QElapsedTimer asked_;
    QTimer again_;         // what was too soon is looked at later, also when no more pictures come
    bool waiting_ = false;
    kernel::Time from_{}, to_{};
    QStringList lanes_;
};

}  // namespace bramix::app
