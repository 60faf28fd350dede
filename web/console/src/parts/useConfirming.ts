import ConfirmationService from 'primevue/confirmationservice'
import { useConfirm } from 'primevue/useconfirm'
import { getCurrentInstance } from 'vue'

/** What asks users whether they are sure. It comes with the first page that needs it. */
export function useConfirming(): ReturnType<typeof useConfirm> {
  getCurrentInstance()?.appContext.app.use(ConfirmationService)
  return useConfirm()
}
