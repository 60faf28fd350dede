import { definePreset } from '@primeuix/themes'
import base from '@primeuix/themes/aura/base'
import button from '@primeuix/themes/aura/button'
import inputtext from '@primeuix/themes/aura/inputtext'
import message from '@primeuix/themes/aura/message'
import toggleswitch from '@primeuix/themes/aura/toggleswitch'

// Only the components that every page uses: all of them together are as large as the rest of the console. Others bring
// theirs with addToTheme.
const usual = {
  ...base,
  components: { button, inputtext, message, toggleswitch },
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
      dark: { formField: { background: 'var(--card)', borderColor: 'var(--rule)' } },
    },
  },
  components: {
    button: {
      colorScheme: {
        light: {
          root: {
            danger: {
              background: '{red.700}',
              hoverBackground: '{red.800}',
              activeBackground: '{red.900}',
              borderColor: '{red.700}',
              hoverBorderColor: '{red.800}',
              activeBorderColor: '{red.900}',
            },
          },
        },
      },
    },
    message: {
      colorScheme: {
        light: { warn: { color: '{yellow.900}' }, success: { color: '{green.800}' }, error: { color: '{red.800}' } },
      },
    },
  },
})

/** Adds how components look that not every page uses. It is to be called before they are first shown. */
export function addToTheme(components: Readonly<Record<string, object>>): void {
  Object.assign((theme as { components: object }).components, components)
}
