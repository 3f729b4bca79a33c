import type { App } from 'vue'
import {
  ElAutocomplete,
  ElButton,
  ElCheckbox,
  ElDatePicker,
  ElDrawer,
  ElForm,
  ElInput,
  ElRadio,
  ElSelect,
  ElSkeleton,
  ElTable,
} from 'element-plus'
import 'element-plus/es/components/base/style/css'
import 'element-plus/es/components/autocomplete/style/css'
import 'element-plus/es/components/button/style/css'
import 'element-plus/es/components/checkbox/style/css'
import 'element-plus/es/components/date-picker/style/css'
import 'element-plus/es/components/drawer/style/css'
import 'element-plus/es/components/form/style/css'
import 'element-plus/es/components/form-item/style/css'
import 'element-plus/es/components/input/style/css'
import 'element-plus/es/components/option/style/css'
import 'element-plus/es/components/radio-button/style/css'
import 'element-plus/es/components/radio-group/style/css'
import 'element-plus/es/components/select/style/css'
import 'element-plus/es/components/skeleton/style/css'
import 'element-plus/es/components/table/style/css'
import 'element-plus/es/components/table-column/style/css'

// A part brings its own along: the form its items, the radio its group.
const parts = [
  ElAutocomplete,
  ElButton,
  ElCheckbox,
  ElDatePicker,
  ElDrawer,
  ElForm,
  ElInput,
  ElRadio,
  ElSelect,
  ElSkeleton,
  ElTable,
]

/** Registers the parts of Element Plus that the console uses, and no others. */
export function useElement(app: App) {
  for (const part of parts) app.use(part)
}
