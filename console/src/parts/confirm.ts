import { ElMessageBox } from 'element-plus'
import { t } from '../language'

/**
 * Asks before something is done that takes effect at once or cannot be undone. The button says what will be done.
 * The focus is on Cancel, so that Enter on a question nobody has read does nothing.
 */
export async function confirmed(question: string, action: string): Promise<boolean> {
  try {
    await ElMessageBox.confirm(question, `${action}?`, {
      confirmButtonText: action,
      cancelButtonText: t('Cancel'),
      customClass: 'question',
      showClose: false,
      closeOnClickModal: false,
      autofocus: false,
    })
    return true
  } catch {
    return false
  }
}
