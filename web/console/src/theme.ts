import { definePreset } from '@primeuix/themes'
import base from '@primeuix/themes/aura/base'
import button from '@primeuix/themes/aura/button'
import confirmdialog from '@primeuix/themes/aura/confirmdialog'
import dialog from '@primeuix/themes/aura/dialog'
import inputtext from '@primeuix/themes/aura/inputtext'
import message from '@primeuix/themes/aura/message'
import popover from '@primeuix/themes/aura/popover'
import progressbar from '@primeuix/themes/aura/progressbar'
import select from '@primeuix/themes/aura/select'
import skeleton from '@primeuix/themes/aura/skeleton'
import toast from '@primeuix/themes/aura/toast'
import toggleswitch from '@primeuix/themes/aura/toggleswitch'
import virtualscroller from '@primeuix/themes/aura/virtualscroller'

// Only the components that the console uses: all of them together are as large as the rest of it.
const usual = {
  ...base,
  components: {
    button,
    confirmdialog,
    dialog,
    inputtext,
    message,
    popover,
    progressbar,
    select,
    skeleton,
    toast,
    toggleswitch,
    virtualscroller,
  },
}

/** The look of PrimeVue's components, with colours that can be read by everybody. */
export const theme = definePreset(usual, {
  semantic: {
    primary: Object.fromEntries([50, 100, 200, 300, 400, 500, 600, 700, 800, 900, 950].map((n) => [n, `{cyan.${n}}`])),
    focusRing: { width: '3px', style: 'solid', color: '{red.600}', offset: '1px' },
    // Darker than the theme has them, so that text on them and in them can be read.
    colorScheme: {
      light: {
        primary: {
          color: '{primary.700}',
          contrastColor: '#ffffff',
          hoverColor: '{primary.800}',
          activeColor: '{primary.900}',
        },
      },
    },
  },
  components: {
    message: {
      colorScheme: {
        light: { warn: { color: '{yellow.900}' }, success: { color: '{green.800}' }, error: { color: '{red.800}' } },
      },
    },
  },
})
