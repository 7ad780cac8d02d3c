/** How a field of a form looks. */
export const field = 'min-h-8 rounded-md border border-rule2 bg-panel px-2 max-sm:min-h-11'
