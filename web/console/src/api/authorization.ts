let header: string | null = null

/** The header with which requests say who asks; null for nobody in particular. */
export const authorization = () => header

/** Says who asks from now on. */
export function authorize(value: string | null): void {
  header = value
}
