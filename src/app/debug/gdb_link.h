// Lets a GDB in from outside: a loopback port, whose bytes go to the session's thread and back.
// Tested by tests/app/code_test.cpp with a real avr-gdb.
#pragma once

#include <memory>

#include <QTimer>

#include "app/shell/editor.h"
#include "link/listener.h"

namespace bramix::app {

class GdbLink : public QObject {
    Q_OBJECT

public:
    explicit GdbLink(Editor& editor, QObject* parent = nullptr);

    // The port that is open, or 0.
    [[nodiscard]] int port() const { return listener_ == nullptr ? 0 : listener_->port(); }
    // Opens the usual port, or any that is free; says where, or why not.
    void open();
    void close();

private:
    void look();

    Editor& editor_;
    std::unique_ptr<link::Listener> listener_;
    bool there_ = false;
    QTimer timer_;
};

}  // namespace bramix::app
