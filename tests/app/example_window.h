// An example in a window of its own, as its user has it: a copy of its folder, opened and shown.
#pragma once

#include <QtTest>

#include "app/shell/main_window.h"

namespace bramix::test {

class ExampleWindow {
public:
    [[nodiscard]] app::Editor& editor() { return window_->editor(); }
    [[nodiscard]] const session::DebugPicture& debug() { return editor().picture().debug; }
    // By the name of its folder.
    void open(const QString& name)
    {
        QStandardPaths::setTestModeEnabled(true);
        if (catalogue_ == nullptr)
            catalogue_ = std::make_unique<bench::Catalogue>(*bench::Catalogue::loadInstalled());
        window_.reset();
        folder_ = std::make_unique<QTemporaryDir>();
        const QString from = QString::fromStdString(bench::shareFolder()) + "/benches/" + name + "/";
        QDir(folder_->path()).mkpath("firmware");
        QVERIFY(QFile::copy(from + "bench.toml", folder_->filePath("bench.toml")));
        for (const QString& file : QDir(from + "firmware").entryList(QDir::Files))
            QVERIFY2(QFile::copy(from + "firmware/" + file, folder_->filePath("firmware/" + file)), qPrintable(file));
        window_ = std::make_unique<app::MainWindow>(*catalogue_);
        window_->neverAsk();
        window_->open(folder_->filePath("bench.toml"));
        window_->show();
        QVERIFY(QTest::qWaitForWindowActive(window_.get()));
        editor().session().settle();
        window_->showSerial();
    }
    // The only stop of the bench; empty: none.
    void stopAt(const std::string& at)
    {
        editor().change("stop", [&](bench::Document& d) {
            d.stops.clear();
            if (at.empty())
                return;
            bench::StopItem stop;
            stop.at = at;
            d.stops.push_back(stop);
        });
        editor().session().settle();
    }

protected:
    std::unique_ptr<bench::Catalogue> catalogue_;
    std::unique_ptr<QTemporaryDir> folder_;
    std::unique_ptr<app::MainWindow> window_;
};

}  // namespace bramix::test
