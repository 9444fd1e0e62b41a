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

/** Asks for a line of text; undefined where nothing was entered. */
export async function entered(question: string, action: string, example: string): Promise<string | undefined> {
  try {
    const { value } = (await ElMessageBox.prompt(question, `${action}?`, {
      confirmButtonText: action,
      cancelButtonText: t('Cancel'),
      inputPlaceholder: example,
      customClass: 'question',
      showClose: false,
      closeOnClickModal: false,
    })) as { value?: string }
    return value?.trim() || undefined
  } catch {
    return undefined
  }
}
