#include "app/widgets/ask_file.h"

#include <QFileDialog>

namespace cruscotto {

QString askFileToWrite(QWidget* parent, const QString& title, const QString& proposed, const QString& filter,
                       const QString& ending) {
    QFileDialog dialog(parent, title);
    dialog.setAcceptMode(QFileDialog::AcceptSave);
    dialog.setFileMode(QFileDialog::AnyFile);
    dialog.setNameFilter(filter);
    dialog.setDefaultSuffix(ending);
    const QFileInfo info(proposed);
    dialog.setDirectory(info.absolutePath());
    dialog.selectFile(info.fileName());
    return dialog.exec() == QDialog::Accepted ? dialog.selectedFiles().value(0) : QString();
}

}  // namespace cruscotto
